"""Light and where power comes from: panels, the sky's models, weather, supplies."""
