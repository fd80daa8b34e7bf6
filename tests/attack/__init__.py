"""Attacks on the whole application, each with counts of what was tried and what did not hold."""
