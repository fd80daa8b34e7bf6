"""The bench: the first page, and finding anything."""
