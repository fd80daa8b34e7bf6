"""The public pages."""
