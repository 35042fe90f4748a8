"""A Finding as text, as JSON, as a figure."""
