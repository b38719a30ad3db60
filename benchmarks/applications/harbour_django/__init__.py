"""The harbour office as a Django application."""
