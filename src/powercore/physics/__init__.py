"""What batteries, chargers, loads and wires do, each alone: no event, no club."""
