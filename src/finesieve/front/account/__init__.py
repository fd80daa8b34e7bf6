"""The account of a person: signing in, and what stands around its form."""
