"""Steps per mm of the extruder, from fed-filament readings."""
