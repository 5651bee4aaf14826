"""The types of the rules file, how strictly clients are taken, and mistakes that show only between tables."""
