"""Member pages: made, published, looked at as somebody."""
