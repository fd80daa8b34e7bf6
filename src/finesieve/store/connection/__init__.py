"""Connections, transactions, and the queue of jobs."""
