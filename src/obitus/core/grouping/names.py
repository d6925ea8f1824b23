"""Names as a person would say them, without what compilers, loaders and build tools add."""

from __future__ import annotations

import re
from typing import Final

from obitus.core.frames import short_path
from obitus.core.remembering import remembered

COMPREHENSIONS: Final = frozenset({"<listcomp>", "<dictcomp>", "<setcomp>", "<genexpr>"})
"""Functions that Python made of comprehensions, until 3.12. They are inside the function that counts."""

_GENERATED = re.compile(
    r"\.<locals>|^async |^new |^(?:Object|Function|Module|global|window|self|exports|Object\.<anonymous>)\.(?=\S)"
    r"| \[as [^\[\]]*\]"
    r"|@[0-9a-f]{5,}|\$\$(?:Lambda|EnhancerBy\w*|FastClassBy\w*|SpringCGLIB|Proxy|_javassist)[\w$/]*|/0x[0-9a-f]+"
    r"|(?<=\w)\$default$|\$(?=\d*$)\d*|(?<=\w)\$\d+(?=[.$]|$)|(?<=[\w>])\.func\d+(?:\.\d+)*|-fm$|-range\d+$"
    r"|::\{\{closure\}\}|::\{closure[^{}]*\}|::h[0-9a-f]{16}$|`\d+"
)
_LAMBDAS = re.compile(r"^lambda\$(?:static\$)?(\w+?)\$\d+$")
_SUSPENDED = re.compile(r"^(.*)\$([A-Za-z_]\w*)\$\d+$")
_CALLEES = re.compile(r"^_callee\d*\$?$|^_loop\d*$|^__anon\w*$|^__ANON__$|^\{closure.*|^<anonymous>$|^anonymous$|^$")
_BLOCKS = re.compile(r"^(?:(?:block|rescue|ensure)(?: \(\d+ levels\))? in )+")
_COUNTED = re.compile(r"(?<=[A-Za-z])[_$]\d{3,}$|(?<=[A-Za-z])_[0-9a-f]{8,}$")
_HASHED_FILE = re.compile(
    r"[.-](?=[\w-]{0,80}\d)(?=[\w-]{0,80}[A-Za-z])[\w-]{6,80}(?=\.(?:bundle\.|chunk\.|min\.){0,4}\w{1,5}$)|[.-][0-9a-f]{6,80}(?=\.\w{1,5}$)"
)
_VERSION = re.compile(
    r"[-_@/]v?\d+(?:\.\d+)+(?:[-.+]?(?:alpha|beta|rc|snapshot|final|release|post|dev)[\w.]*)?|(?<=/)v?\d[\d.]*(?=/)",
    re.IGNORECASE,
)


@remembered(8192)
def plain_function(name: str) -> str:
    """Return a function's name without generated parts: ``lambda$open$3`` is ``open``, ``Object.open`` is ``open``.

    Inner functions belong to the outer one, except a lambda, which is called from elsewhere.
    """
    lambdas = _LAMBDAS.match(name)
    if lambdas is not None:
        return lambdas[1]
    for inner in COMPREHENSIONS:
        name = name.removesuffix("." + inner)
    name = _GENERATED.sub("", _BLOCKS.sub("", name))
    last = name.rpartition(".")[2]
    if _CALLEES.match(last) and last != name:
        return name.rpartition(".")[0] + ".<anonymous>"
    if _CALLEES.match(name):
        return "<anonymous>"
    return _COUNTED.sub("", name) or name


@remembered(8192)
def plain_room(module: str, file: str, function: str = "") -> str:
    """Return the place of a function, without versions, build hashes and folders that differ between hosts: the
    module, or else the file's name and its folder.
    """
    if module:
        suspended = (
            _SUSPENDED.match(module) if function in ("invokeSuspend", "invoke", "apply", "run", "call") else None
        )
        if suspended is not None:
            return f"{suspended[1]}.{suspended[2]}"
        return _GENERATED.sub("", _VERSION.sub("", module))
    folder, slash, name = short_path(file).rpartition("/")
    return folder + slash + (_VERSION.sub("", _HASHED_FILE.sub("", name)) or name)


@remembered(8192)
def plain_type(name: str) -> str:
    """Return an exception type's own name, without module, package or outer class."""
    bare = name.partition("`")[0].replace("::", ".").replace("\\", ".").replace("$", ".")
    return bare.rstrip(".").rpartition(".")[2] or name


def last_name(function: str) -> str:
    """Return a function's name without the class it belongs to."""
    return function.rpartition(".")[2].rpartition("::")[2]
