"""omphalon printer: what goes over the wire."""
