"""Statements that the crews' ledger is asked, looked at before they are run."""

import sqlparse
from sqlparse import sql, tokens

TABLES = ["sailings", "boardings", "fares", "berths"]


def statement(draw):
    table = draw.choice(TABLES)
    return f"select id, berth as b from {table} where vessel = 'Tern {draw.randint(1, 99)}' and tide > {draw.randint(1, 9)} order by id"


def parsed(text):
    return sqlparse.parse(text)[0]


def named_tables(text):
    found = []
    for token in parsed(text).tokens:
        if isinstance(token, sql.Identifier):
            found.append(token.get_real_name())
    return found


def tidy(draw):
    return sqlparse.format(statement(draw), reindent=True, keyword_case="upper")


def tables(draw):
    names = named_tables(statement(draw))
    return names[0].upper()


def columns(draw):
    first = parsed(statement(draw)).tokens
    lists = [t for t in first if isinstance(t, sql.IdentifierList)]
    return [i.get_name() for i in lists[0].get_identifiers()]


def parts(draw):
    text = ";\n".join(statement(draw) for _ in range(draw.randint(2, 4)))
    return [piece.strip() for piece in sqlparse.split(text)]


def conditions(draw):
    where = [t for t in parsed(statement(draw)).tokens if isinstance(t, sql.Where)][0]
    compared = {}
    for token in where.tokens:
        if isinstance(token, sql.Comparison):
            left, _, right = str(token).partition(" ")
            compared[left] = right.split(" ")[-1]
    return int(compared["tide"]) + len(compared["vessel"])


def kinds(draw):
    return {token.ttype for token in parsed(statement(draw)).flatten()} - {tokens.Whitespace}


def stripped(draw):
    return sqlparse.format(
        "-- for the harbour\n" + statement(draw), strip_comments=True, use_space_around_operators=True
    )


def inserted(draw):
    rows = ", ".join(f"({draw.randint(1, 500)}, 'Skerry')" for _ in range(3))
    return sqlparse.format(f"insert into berths (id, quay) values {rows}", reindent_aligned=True)


ENTRIES = [tidy, tables, columns, parts, conditions, kinds, stripped, inserted]


def report_format(draw):
    return sqlparse.format(statement(draw), keyword_case=draw.choice(["loud", "shout"]))


def ledger_format(draw):
    return sqlparse.format(statement(draw), keyword_case="big", indent_width=draw.randint(1, 3))


def margin_format(draw):
    return sqlparse.format(statement(draw), reindent=True, indent_width=-draw.randint(1, 9))


def folded_format(draw):
    options = {"reindent": True, "wrap_after": -draw.randint(1, 9)}
    return sqlparse.format(statement(draw), **options)


MISUSES = [report_format, ledger_format, margin_format, folded_format]
