"""What an installation is made of."""
