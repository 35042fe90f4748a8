"""Steps per mm of X, Y and Z, from measured moves or measured parts."""
