"""A processor on the network: how it is spoken to, and a stand-in for one that answers."""
