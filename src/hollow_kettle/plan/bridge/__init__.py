"""Between the plan's rows and the core's values; all that knows both."""
