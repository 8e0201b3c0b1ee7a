"""What is believed of a battery's charge between events, and why."""
