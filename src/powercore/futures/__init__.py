"""What becomes of a rotation when uses, batteries and the sky are not as planned."""
