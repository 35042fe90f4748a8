"""Many printers: jobs out of a manifest, run in processes or by a scheduler, kept, compared."""
