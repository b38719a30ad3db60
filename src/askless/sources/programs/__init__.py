"""Runs programs and visits their pages."""
