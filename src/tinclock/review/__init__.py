"""The local web application: matches to look at, and a desk for those who review cases."""
