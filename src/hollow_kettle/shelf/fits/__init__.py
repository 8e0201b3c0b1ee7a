"""Which charger fits which battery, and which lead joins what."""
