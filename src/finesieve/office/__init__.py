"""The back office: the pages of the staff, by stage of the work."""
