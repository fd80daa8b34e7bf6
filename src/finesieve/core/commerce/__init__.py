"""What a shop sells, what is in a cart, and what it comes to: exact money, rounded only where it is said."""
