"""Pages for members: texts that are filled per person."""
