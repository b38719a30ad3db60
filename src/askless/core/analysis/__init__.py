"""From requests to findings and edits."""
