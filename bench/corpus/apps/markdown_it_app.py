"""Notes of the crew, written in Markdown, shown on the page."""

from markdown_it import MarkdownIt
from markdown_it.tree import SyntaxTreeNode

reader = MarkdownIt("commonmark").enable("table")


def note(draw):
    return f"""# Crossing {draw.randint(1, 900)}

The *Tern* left **pier {draw.randint(1, 9)}** [late](https://skerry.example/{draw.randint(1, 9)} "why").

- fog
- tide of {draw.randint(1, 9)} m
  1. turned
  2. waited

> said the `mate`

| berth | car |
|-------|-----|
| {draw.randint(1, 40)} | van |

```
log {draw.randint(1, 9)}
```
"""


def page(draw):
    return reader.render(note(draw))


def headings(draw):
    tokens = reader.parse(note(draw))
    places = [i for i, token in enumerate(tokens) if token.type == "heading_open"]
    return tokens[places[0] + 1].content.split()[1]


def links(draw):
    found = []
    for token in reader.parse(note(draw)):
        for child in token.children or []:
            if child.type == "link_open":
                found.append(child.attrs["href"])
    return found[0].rpartition("/")[2]


def outline(draw):
    tree = SyntaxTreeNode(reader.parse(note(draw)))
    return [node.type for node in tree.children][0], tree.pretty()


def inline(draw):
    return reader.renderInline(f"pier **{draw.randint(1, 9)}** and `{draw.randint(1, 9)}`")


def plain(draw):
    words = []
    for token in reader.parse(note(draw)):
        if token.type == "inline":
            words += token.content.split()
    longest = max(words, key=len)
    return longest[0] + str(len(words) // len(longest))


def without_tables(draw):
    other = MarkdownIt().disable("table")
    return other.render(note(draw)).count("<p>")


def back(draw):
    tree = SyntaxTreeNode(reader.parse(note(draw)))
    tokens = tree.to_tokens()
    return reader.renderer.render(tokens, reader.options, {})


ENTRIES = [page, headings, links, outline, inline, plain, without_tables, back]


def harbour_rules(draw):
    return MarkdownIt().enable(draw.choice(["harbour", "quay"])).render("x")


def pier_rules(draw):
    return MarkdownIt().disable([f"pier{draw.randint(1, 9)}"]).render("x")


def fog_preset(draw):
    return MarkdownIt(f"fog-{draw.choice('abc')}").render("x")


def number_note(draw):
    return reader.render(draw.randint(1, 99))


def list_note(draw):
    return reader.parse([draw.randint(1, 9)])


MISUSES = [harbour_rules, pier_rules, fog_preset, number_note, list_note]
