"""Files on the disk, by what is in them."""
