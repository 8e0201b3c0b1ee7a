"""Settings: base for all, then local (demo and run), serve and test."""
