"""The public sign-up page."""
