"""The command line: one module a command. Only this layer catches errors, prints and exits."""
