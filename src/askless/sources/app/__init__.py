"""A Python program with the recorder in it."""
