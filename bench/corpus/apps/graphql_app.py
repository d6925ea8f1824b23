"""What the pier boards ask the timetable."""

from graphql import build_schema, execute_sync, parse, print_ast, validate
from graphql.language import Visitor, visit
from graphql.utilities import build_ast_schema, separate_operations, strip_ignored_characters

SCHEMA = build_schema(
    """
type Sailing { id: ID! pier: String hour: Int berths(free: Boolean = true): [Int!] }
type Query { sailing(id: ID!): Sailing sailings(after: Int): [Sailing!]! }
"""
)


def root(draw):
    sailing = {"id": "s-1", "pier": "Eastholm", "hour": draw.randint(5, 22), "berths": [1, 2]}
    return {"sailing": sailing, "sailings": [sailing]}


def query(draw):
    return f'query Board {{ sailing(id: "s-{draw.randint(1, 99)}") {{ ...S berths(free: false) }} sailings(after: {draw.randint(1, 9)}) {{ id }} }} fragment S on Sailing {{ pier hour }}'


def asked(draw):
    answer = execute_sync(SCHEMA, parse(query(draw)), root(draw))
    return answer.data["sailing"]["hour"] + 1


def checked(draw):
    return validate(SCHEMA, parse(query(draw)))


def printed(draw):
    return print_ast(parse(query(draw))).split("\n")[0]


def squeezed(draw):
    return strip_ignored_characters(query(draw))


class Fields(Visitor):
    def __init__(self):
        super().__init__()
        self.found = []

    def enter_field(self, node, *_):
        self.found.append(node.name.value)


def fields(draw):
    visitor = Fields()
    visit(parse(query(draw)), visitor)
    return visitor.found[0].upper(), len(visitor.found) / visitor.found.count("sailing")


def separated(draw):
    found = separate_operations(parse(query(draw)))
    return len(found["Board"].definitions)


def wrong(draw):
    errors = validate(SCHEMA, parse(f"{{ sailing(id: {draw.randint(1, 9)}) {{ depth }} }}"))
    return errors[0].message.split("'")[1]


def schema_again(draw):
    built = build_ast_schema(parse(f"type Query {{ pier(n: Int = {draw.randint(1, 9)}): String }}"))
    return built.query_type.fields["pier"].args["n"].default_value


ENTRIES = [asked, checked, printed, squeezed, fields, separated, wrong, schema_again]


def board_query(draw):
    return parse(f"{{ sailing(id: {draw.randint(1, 9)} }}")


def mate_query(draw):
    return parse("query { " + draw.choice(["?", "%"]) + " }")


def empty_query(draw):
    return parse(" " * draw.randint(1, 9))


def old_schema(draw):
    return build_schema(f"type Query {{ pier: Tide{draw.randint(1, 9)} }}")


def new_schema(draw):
    return build_schema("type Query { a: String }\n" + f"type Query {{ b{draw.randint(1, 9)}: Int }}")


MISUSES = [board_query, mate_query, empty_query, old_schema, new_schema]
