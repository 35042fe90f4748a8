"""What all packages rest on: errors, files, shapes of foreign JSON, arrays, progress."""
