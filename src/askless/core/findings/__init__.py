"""Findings, remedies, and what limits them."""
