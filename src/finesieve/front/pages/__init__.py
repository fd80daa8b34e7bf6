"""Member pages, as people read them."""
