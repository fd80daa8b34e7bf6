"""Staff and workspaces."""
