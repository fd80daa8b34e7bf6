"""Background tasks, on the same PostgreSQL."""
