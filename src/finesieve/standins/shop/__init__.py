"""The shop that ships with the product: carts, and a payment service that moves no money."""
