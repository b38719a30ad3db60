"""Recorded packets: frames, TCP streams, queries."""
