"""Chat scripts: written as a play, tried beside the text; the clerk’s desk."""
