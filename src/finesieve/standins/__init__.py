"""Small simulated outside services that ship with the product."""
