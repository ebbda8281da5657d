"""Sample jobs of our own invention, made through the services."""
