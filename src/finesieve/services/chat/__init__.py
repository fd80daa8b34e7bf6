"""Chat scripts and the conversations held by them."""
