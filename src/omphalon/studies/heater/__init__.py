"""Gains of the hotend's or the bed's temperature loop, from a log of an on/off oscillation test."""
