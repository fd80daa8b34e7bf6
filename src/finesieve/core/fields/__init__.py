"""What a field is, and the types it can have."""
