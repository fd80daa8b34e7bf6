"""The language in the office: its reference, and words for completing what is typed."""
