"""The computing core: batteries, loads, charging, belief, rotation, shortfalls."""
