"""What is believed of a battery, from what people noted of it."""
