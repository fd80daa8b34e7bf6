"""Signing in, choosing a workspace."""
