"""Pages for members: made and published by staff, read by whom they are for."""
