"""Requests added up by route and shape."""
