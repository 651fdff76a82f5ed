"""Speed against yardsticks, in one run, as ratios: the machine's own speed cancels out. `make bench`."""
