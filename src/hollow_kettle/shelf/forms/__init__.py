"""What people send to the shelf, parsed and checked once, by topic."""
