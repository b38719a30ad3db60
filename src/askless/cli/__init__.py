"""The command line: parses, calls, prints. The only room that knows all the others."""
