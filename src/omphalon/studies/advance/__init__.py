"""Pressure advance, in seconds: the test print, the value read off it, and whether corners are
better for it.
"""
