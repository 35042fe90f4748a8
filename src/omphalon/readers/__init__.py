"""The door: files become recordings here, and other libraries' errors become ours."""
