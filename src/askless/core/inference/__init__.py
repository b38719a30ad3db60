"""What is inferred about a request: lineage, joins, transactions, relation paths, failures."""
