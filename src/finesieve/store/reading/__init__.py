"""Queries over people and records, and what was counted."""
