"""Which temperature, retraction, speed or flow prints best, by eye, from a stepped print."""
