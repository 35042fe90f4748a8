"""The wire to a printer: a dialogue that knows no port, the port at the edge, and what is done with
them.
"""
