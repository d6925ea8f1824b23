"""The workshop's scripts, shown in colours on the wall."""

from pygments import highlight, lex
from pygments.formatters import HtmlFormatter, NullFormatter, RawTokenFormatter
from pygments.lexers import get_lexer_by_name
from pygments.styles import get_style_by_name
from pygments.token import Token, string_to_tokentype


def script(draw):
    return f"def tide(hour):\n    return hour * {draw.randint(1, 99)}  # metres\n\nprint(tide({draw.randint(1, 23)}), 'pier')\n"


def lexer(draw):
    return get_lexer_by_name(draw.choice(["python", "ruby", "javascript"]))


def page(draw):
    return highlight(script(draw), lexer(draw), HtmlFormatter(linenos=True, hl_lines=[draw.randint(1, 3)]))


def plain(draw):
    return highlight(script(draw), lexer(draw), NullFormatter()).split("\n")[0].upper()


def raw(draw):
    return highlight(script(draw), lexer(draw), RawTokenFormatter())


def counted(draw):
    kinds = {}
    for kind, text in lex(script(draw), lexer(draw)):
        kinds[kind] = kinds.get(kind, 0) + len(text)
    return 100 / kinds[Token.Text.Whitespace] if Token.Text.Whitespace in kinds else sum(kinds.values())


def colours(draw):
    style = get_style_by_name(draw.choice(["default", "friendly"]))
    return style.style_for_token(Token.Keyword)["color"].upper()


def sheet(draw):
    return HtmlFormatter(style="default", cssclass=f"wall{draw.randint(1, 9)}").get_style_defs(".wall").split("\n")[3]


def family(draw):
    kind = string_to_tokentype("Token.Name." + draw.choice(["Function", "Class"]))
    return kind.parent is Token.Name, kind.split()[0]


def first_names(draw):
    names = [text for kind, text in lex(script(draw), get_lexer_by_name("python")) if kind in Token.Name]
    return names[0].title() + names[1][0]


ENTRIES = [page, plain, raw, counted, colours, sheet, family, first_names]


def tide_lexer(draw):
    return get_lexer_by_name(f"tidal{draw.randint(1, 9)}")


def fog_lexer(draw):
    return get_lexer_by_name("fog" + draw.choice("abc"))


def storm_style(draw):
    return get_style_by_name(f"storm{draw.randint(1, 9)}")


def night_style(draw):
    return HtmlFormatter(style=f"night{draw.randint(1, 9)}")


def swapped(draw):
    return highlight(get_lexer_by_name("python"), script(draw), HtmlFormatter())


MISUSES = [tide_lexer, fog_lexer, storm_style, night_style, swapped]
