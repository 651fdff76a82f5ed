"""Plan how private subnets reach the outside."""
