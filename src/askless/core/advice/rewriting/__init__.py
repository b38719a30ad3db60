"""Rewrites statements as SQL."""
