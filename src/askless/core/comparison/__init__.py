"""One capture against another, and against budgets."""
