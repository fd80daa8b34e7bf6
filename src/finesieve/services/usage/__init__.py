"""Where everything is used."""
