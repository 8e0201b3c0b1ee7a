"""What an event's log says afterwards."""
