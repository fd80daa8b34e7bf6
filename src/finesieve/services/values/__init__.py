"""Values of people and things: writing, reading, files, and those of the house."""
