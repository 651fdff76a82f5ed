"""The simulation's compiled kernels: arrays in, arrays out, no objects, no global state.

Time runs in slices of one width. Where a slice cannot refuse anybody (held + arriving <= servers) the order within it
tells nothing and is not made; else its endings and arrivals are taken one by one in exact order, endings first at one
instant. Both ways give the same process: nothing is rounded to slices.
"""
