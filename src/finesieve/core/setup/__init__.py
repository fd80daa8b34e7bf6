"""A whole setup as a document: written as JSON Schema, read back, and compared with what is there."""
