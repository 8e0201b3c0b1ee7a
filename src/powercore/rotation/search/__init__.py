"""Looking for a better rotation than one at hand."""
