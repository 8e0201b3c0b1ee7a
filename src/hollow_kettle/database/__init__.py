"""The PostgreSQL below: a cluster of our own or one elsewhere, and its copies."""
