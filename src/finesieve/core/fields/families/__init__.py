"""How each family of field types reads an answer, shows a value, and fills an input."""
