"""Edits as patches: the call of an advice put to the query it is for, on the syntax tree.

`places` finds the expression that builds the query, `names` sees that what the call names is there,
`rewriting` does both to a file's text, and `making` reads the files and writes the unified diff.
"""
