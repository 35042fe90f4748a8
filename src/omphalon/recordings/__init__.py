"""What comes in: logs, readings, their columns, report lines, data frames."""
