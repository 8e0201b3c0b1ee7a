"""What no plan can be better than, by prices of tours."""
