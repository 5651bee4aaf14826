"""The case store: accounts, their evidence over all matches, cases, decisions, and the chained log."""
