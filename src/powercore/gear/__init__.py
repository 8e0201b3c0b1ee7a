"""What a club owns: things, kits wired of them, and what is asked of both."""
