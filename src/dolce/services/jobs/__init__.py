"""Jobs: the list, their copies and packages, where each stands."""
