"""omphalon farm: many printers."""
