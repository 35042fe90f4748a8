"""Drawings: draw_x(…, picture) gets numbers and draws them. No computing, no files, no pyplot."""
