"""What a workspace has defined, as tables and columns; and the state that its values are in."""
