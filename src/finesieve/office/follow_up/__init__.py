"""Follow up: what is sent to people."""
