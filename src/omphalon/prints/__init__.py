"""Test prints and dry runs as plain G-code, line by line."""
