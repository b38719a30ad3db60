"""Connections that are read, as a capture."""
