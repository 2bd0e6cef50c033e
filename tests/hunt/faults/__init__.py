"""Ways in which a sound API goes wrong, as those do that were made by others: each changes one thing."""

from tests.hunt.faults import conditions, many, operations, order, pages, refusals, rules, stored
from tests.hunt.faults.fault import FAULTS, Fault

__all__ = ["FAULTS", "Fault", "conditions", "many", "operations", "order", "pages", "refusals", "rules", "stored"]
