"""What `./kettle` does once Python and PostgreSQL are there."""
