"""Small changes of a whole rotation, kept where the order is better for them."""
