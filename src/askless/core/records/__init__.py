"""What happened, as records: queries and requests, statements, call sites, schema."""
