"""Which request each query belongs to."""
