"""What goes out to people."""
