"""The public pages of the stand-in shop: what it sells, the cart, paying, one's own order."""
