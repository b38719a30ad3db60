"""The command line: parses, calls, prints. The only package that knows all the others."""
