"""The demo page: a grid, a feed and two walks side by side, on Larkmere data that is written to."""
