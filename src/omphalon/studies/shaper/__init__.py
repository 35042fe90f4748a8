"""Input shapers: from accelerometer logs, or ripples on a print, to shaper, frequency, damping and
acceleration.
"""
