"""The laws: arrays in, frozen results out. No file, no clock, no print, no hidden random
numbers.
"""
