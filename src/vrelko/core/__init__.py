"""Pure computation: orders, spots, page arithmetic, cost, drift and the planner."""
