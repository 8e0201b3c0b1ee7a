"""Events, who does what there, and the batteries chosen for them."""
