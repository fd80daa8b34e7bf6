"""What a business keeps: fields, groups, options, record types, tags, lists and levels."""
