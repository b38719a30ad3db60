"""Three pages of the harbour office as a Django project, on the same tables."""
