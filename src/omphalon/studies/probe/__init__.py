"""Nozzle-to-bed zero, from drag heights and probe trigger heights."""
