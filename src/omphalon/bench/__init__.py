"""The printer's own things: for now the dialect in which its lines are written."""
