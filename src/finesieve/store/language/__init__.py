"""Expressions as SQL."""
