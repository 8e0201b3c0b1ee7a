"""What pages show and take, as JSON for the club's own scripts."""
