"""Plan how private subnets reach the outside."""

__version__ = "0.2.0"
