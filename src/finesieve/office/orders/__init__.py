"""Orders, for those who pack and answer for them."""
