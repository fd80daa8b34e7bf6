"""What the fields hold, and what is wrong or wasteful."""
