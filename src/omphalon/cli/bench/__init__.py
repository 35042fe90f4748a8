"""omphalon bench: one printer's folder."""
