"""Traces of OpenTelemetry: spans read, put together to requests, received or read from files."""
