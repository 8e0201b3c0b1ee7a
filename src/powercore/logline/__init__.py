"""What people type at net control in one line, and what it means."""
