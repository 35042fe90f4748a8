"""The test card: what is printed, what its pictures show, what that says."""
