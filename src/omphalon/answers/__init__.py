"""What goes out: findings, remarks, refusals, settings, and their sentences."""
