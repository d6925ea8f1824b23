"""Names of classes and functions in any alphabet, in each language's stack traces."""

from __future__ import annotations

import pytest

from obitus.core.stacks import find_stacks

TRACES = {
    "python": """Traceback (most recent call last):
  File "/srv/skerry/åpning.py", line 9, in åpne
    finn_båt("Måken")
  File "/srv/skerry/åpning.py", line 4, in finn_båt
    raise ØkonomiFeil("tom kasse")
ØkonomiFeil: tom kasse
""",
    "java": """Exception in thread "main" example.øy.Åpning: fant ikke Måken
\tat example.øy.Rampe.finn_båt(Rampe.java:12)
\tat example.øy.Rampe.main(Rampe.java:5)
Caused by: example.øy.ØkonomiFeil: tom kasse
\tat example.øy.Økonomi.finn_båt(Økonomi.java:3)
\t... 2 more
""",
    "javascript": """ØkonomiError: tom kasse
    at finn_båt (/srv/skerry/åpning.js:4:11)
    at Åpning.start (/srv/skerry/åpning.js:9:5)
""",
    "dotnet": """Skerry.ØkonomiFeil: tom kasse
   at Skerry.Åpning.finn_båt(String navn) in /srv/skerry/Åpning.cs:line 4
   at Skerry.Åpning.Main() in /srv/skerry/Åpning.cs:line 12
""",
    "ruby": """/srv/skerry/åpning.rb:4:in 'Båt#finn_båt': tom kasse (Skerry::ØkonomiFeil)
\tfrom /srv/skerry/åpning.rb:9:in 'Object#åpne'
\tfrom /srv/skerry/åpning.rb:12:in '<main>'
""",
    "php": """PHP Fatal error:  Uncaught Øy\\ØkonomiFeil: tom kasse in /srv/skerry/åpning.php:4
Stack trace:
#0 /srv/skerry/åpning.php(9): Øy\\Åpning->finn_båt('Måken')
#1 {main}
  thrown in /srv/skerry/åpning.php on line 4
""",
    "dart": """Unhandled exception:
ØkonomiFeil: tom kasse
#0      finn_båt (file:///srv/skerry/åpning.dart:4:3)
#1      main (file:///srv/skerry/åpning.dart:12:1)
""",
}


@pytest.mark.parametrize("language", TRACES)
def test_a_class_that_begins_with_another_letter(language: str) -> None:
    """Its name is read like any other, with its message, and the chain stays whole."""
    (stack,) = find_stacks(TRACES[language])
    inner = stack.chain[-1]
    assert inner.type.replace("\\", ".").replace("::", ".").rpartition(".")[2] in ("ØkonomiFeil", "ØkonomiError")
    assert inner.message == "tom kasse" and inner.frames[-1].function.endswith("finn_båt")
    assert len(stack.chain) == (2 if language == "java" else 1)
