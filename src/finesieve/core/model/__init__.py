"""All that a workspace has defined, as one thing to ask."""
