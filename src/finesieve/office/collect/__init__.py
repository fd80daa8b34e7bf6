"""Collect: composing forms."""
