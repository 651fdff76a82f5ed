"""Run every measurement, or those named on the command line, in a process that is set up as the program's is."""

import sys

import fenrask.__main__  # noqa: F401
from bench import choice, commands, erlang, hard, measuring, reading, scale, simulation, start_up

MEASUREMENTS = {
    "start-up": start_up.measure,
    "reading": reading.measure,
    "measure": measuring.measure,
    "erlang": erlang.measure,
    "scale": scale.measure,
    "commands": commands.measure,
    "choice": choice.measure,
    "hard": hard.measure,
    "simulation": simulation.measure,
}


def main() -> None:
    """Print each measurement under its name."""
    for name in sys.argv[1:] or MEASUREMENTS:
        print(f"== {name}")
        for line in MEASUREMENTS[name]():
            print(f"  {line}")


main()
