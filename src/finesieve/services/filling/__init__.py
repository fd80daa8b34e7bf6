"""Filling in a form, and what comes of it."""
