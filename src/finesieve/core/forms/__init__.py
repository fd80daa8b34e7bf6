"""Forms: what is asked, in which case, with which checks; and what comes of it."""
