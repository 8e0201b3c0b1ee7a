"""The list of the shelf, and the page of each thing."""
