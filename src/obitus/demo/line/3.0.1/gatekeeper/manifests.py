"""Who and what is on board, for the harbour office."""

import obitus


def total_weight(rows):
    obitus.mark("weights summed", rows=len(rows))
    # The office takes a vehicle that nobody weighed for one of two tonnes.
    return sum(int(row["weight_kg"] or 2000) for row in rows)


def dangerous_goods(rows):
    return [field(row, "goods_class") for row in rows if row.get("goods")]


def field(row, name):
    """Return a field of a row; a manifest without it is not complete."""
    value = row[name]
    if value == "":
        raise ValueError(f"row {row.get('row')} has an empty {name}")
    return value
