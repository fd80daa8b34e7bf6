"""Making forms, trying them and putting them in force."""
