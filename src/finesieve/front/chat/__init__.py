"""Conversations on the house’s page, and the stand-in for a handset."""
