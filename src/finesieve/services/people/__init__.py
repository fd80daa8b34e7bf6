"""People and their records, and what waits on the bench."""
