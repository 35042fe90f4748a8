"""One printer's folder: facts, journal, the settings read off it, what to do next."""
