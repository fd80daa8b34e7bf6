"""The writing door: nothing else writes to tables of values."""
