"""Define: groups and fields."""
