"""People: the list and the profiles."""
