"""Collecting on a schedule: rounds over inventories that stand on a worker's machine, and what each brought."""
