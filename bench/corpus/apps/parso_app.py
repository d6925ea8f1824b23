"""The crew's own small scripts, looked at before they may run on board."""

import parso


def script(draw):
    return f'''import math

class Pump:
    level = {draw.randint(1, 99)}

    def run(self, hours, *more, speed={draw.randint(1, 9)}):
        """Runs it."""
        with open("log-{draw.randint(1, 9)}") as log:
            for hour in range(hours):
                yield hour if hour > {draw.randint(1, 5)} else math.sqrt(speed)

def stop(pump):
    return pump.level + {draw.randint(1, 9)}
'''


def tree(draw):
    return parso.parse(script(draw))


def functions(draw):
    return [f.name.value for f in tree(draw).iter_funcdefs()][0].upper()


def inner(draw):
    pump = next(tree(draw).iter_classdefs())
    run = next(pump.iter_funcdefs())
    return [p.name.value for p in run.get_params()][1], run.is_generator()


def imported(draw):
    return [path[0].value for path in (list(i.get_paths())[0] for i in tree(draw).iter_imports())][0]


def written_back(draw):
    return tree(draw).get_code().count("\n")


def leaves(draw):
    leaf, seen = tree(draw).get_first_leaf(), 0
    while leaf is not None:
        seen += len(leaf.value)
        leaf = leaf.get_next_leaf()
    return 1000 / seen


def complaints(draw):
    grammar = parso.load_grammar()
    module = grammar.parse(script(draw) + f"\ndef (:\n  x = {draw.randint(1, 9)}\n")
    return grammar.iter_errors(module)[0].message[:9]


def names(draw):
    used = tree(draw).get_used_names()
    lines = {name: [use.start_pos[0] for use in uses] for name, uses in used.items()}
    return lines["hour"][0] + lines["stop"][-1]


def placed(draw):
    leaf = tree(draw).get_leaf_for_position((4, draw.randint(4, 8)))
    return leaf.get_previous_leaf().type, leaf.parent.type


ENTRIES = [functions, inner, imported, written_back, leaves, complaints, names, placed]


def bridge_position(draw):
    return tree(draw).get_leaf_for_position((draw.randint(500, 900), 1))


def deck_position(draw):
    return tree(draw).get_leaf_for_position((0, draw.randint(1, 9)))


def old_grammar(draw):
    return parso.load_grammar(version=f"{draw.randint(5, 9)}.x")


def next_grammar(draw):
    return parso.load_grammar(version="1." + str(draw.randint(1, 9)))


def strict_script(draw):
    return parso.load_grammar().parse(f"def (: {draw.randint(1, 9)}\n", error_recovery=False)


MISUSES = [bridge_position, deck_position, old_grammar, next_grammar, strict_script]
