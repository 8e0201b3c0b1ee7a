"""The yard: sources, bays, crews, places and the walks between."""
