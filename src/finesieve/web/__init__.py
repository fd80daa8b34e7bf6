"""What the office and the front share: templates, security, reading requests, error pages."""
