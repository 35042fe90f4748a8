"""Flow multiplier, from measured wall thicknesses."""
