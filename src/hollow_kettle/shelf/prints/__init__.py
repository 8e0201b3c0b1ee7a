"""Paper: labels, cards, lists, drawings."""
