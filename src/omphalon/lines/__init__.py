"""Lines for the printer: dialects, and the one function that fills a template."""
