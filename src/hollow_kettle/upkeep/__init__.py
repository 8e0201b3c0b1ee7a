"""How the application itself is: health, figures, troubles and backups."""
