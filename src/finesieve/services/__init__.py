"""What people do: one function is one transaction and one story."""
