"""The demo house: Brackenfold Seed Co-op, all made up by a seeded generator."""
