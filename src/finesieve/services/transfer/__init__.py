"""Definitions and values as files."""
