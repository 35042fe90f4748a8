"""Quantities that are measured by repeated readings: one engine decides, one set of words says it,
and a quantity is a row with the doubts that only it has.
"""
