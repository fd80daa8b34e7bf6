"""Speed, measured as ratios."""
