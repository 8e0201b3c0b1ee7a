"""An event out and in as a file, and copied to another date."""
