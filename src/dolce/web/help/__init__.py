"""Help where it is needed: words explained in place, the guide, and the keys."""
