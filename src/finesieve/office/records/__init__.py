"""Records of people: lists and single ones; and the files kept with values."""
