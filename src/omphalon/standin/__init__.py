"""A printer that is not there: equations of its own, richer than what physics/ fits, so that no fit
grades itself.
"""
