"""What rules can and cannot be, and what is wrong or wasteful in a setup."""
