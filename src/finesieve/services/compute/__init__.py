"""Derived fields, and what can be written in an expression."""
