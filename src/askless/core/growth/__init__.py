"""How queries change as rows grow and as time passes."""
