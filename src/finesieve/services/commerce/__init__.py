"""The shop: carts, placing an order, paying for it, and what becomes of it."""
