"""Highest speed and acceleration before steps are lost, from pass and fail of a stepped dry run."""
