"""The language of rules: one sentence each, read into values; docs/rules.md has its grammar as EBNF (ISO/IEC 14977).

Words of the language are told apart from names by where they stand; a name that is one of them where that could stand too, or has blanks in it, is
written within quotes.
"""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass
from difflib import get_close_matches
from functools import lru_cache
from typing import Any

from lark import Lark, Token, Transformer, v_args
from lark.exceptions import UnexpectedEOF, UnexpectedInput, UnexpectedToken

LONGEST = 400
"""Characters of a rule."""

GRAMMAR = r"""
rule: apart | reach | carries | share | leases | survives

apart: KEEP subjects APART FROM (subjects | EVERYTHING) layer2? hostile? without?
layer2: ON LAYER LAYER_2
hostile: EVEN IF HOSTILE
without: EXCEPT subjects

reach: LET subjects REACH subjects service? through?
     | subjects REACHES subjects service? through?
service: ON (TCP | UDP) NUMBER
through: ONLY THROUGH subjects

carries: subjects CARRIES NUMBER

share: subjects SHARE NO thing (COMMA thing)* (OR thing)?
thing: VID | VIRTUAL SWITCH | UPLINK | NIC | CARD | CABLE | SWITCH

leases: subjects GETS LEASES ONLY FROM subjects

survives: subjects (OR subjects)* SURVIVES ANY (ONE failing | TWO failing_two)
failing: CABLE | NIC | CARD | SWITCH | HOST
failing_two: CABLES | NICS | CARDS | SWITCHES | HOSTS

subjects: subject (COMMA subject)* (AND subject)?
subject: EVERY HOST -> every_host
       | SEGMENT name -> segment
       | ROLE name -> role
       | GUEST name -> guest
       | STATION name -> station
       | HOST name -> host
       | HOST PORT name OF name -> host_port
       | ADAPTER name -> adapter
       | OUTSIDE name? -> outside
       | name -> anything
name: NAME | QUOTED

COMMA: ","
QUOTED: /"(?:[^"]|"")*"/
NAME: /[^\s",]+/
%ignore /\s+/
"""

LISTED = (
    *(
        "keep",
        "let",
        "every",
        "apart",
        "from",
        "everything",
        "reach",
        "reaches",
        "only",
        "through",
        "carries",
        "gets",
        "leases",
        "share",
        "no",
        "survives",
        "any",
        "one",
        "two",
    ),
    *("on", "layer", "2", "tcp", "udp", "even", "if", "hostile", "except", "and", "or"),
    *("VID", "virtual", "switch", "uplink", "NIC", "card", "cable"),
    *("cables", "NICs", "cards", "switches", "hosts"),
    *("segment", "role", "guest", "station", "host", "port", "of", "adapter", "outside"),
)
"""The words of the language, in the order in which they are offered."""

WORDS = frozenset(LISTED)
NAMED = ("NAME", "QUOTED")

SEGMENT, ROLE, GUEST, STATION, HOST, HOST_PORT, ADAPTER, OUTSIDE, ANYTHING, EVERY_HOST, EVERYTHING = (
    "segment",
    "role",
    "guest",
    "station",
    "host",
    "host port",
    "adapter",
    "outside",
    "anything",
    "every host",
    "everything",
)
"""What a subject may be."""

THINGS = {
    "VID": "vid",
    "virtual switch": "virtual_switch",
    "uplink": "uplink",
    "NIC": "nic",
    "card": "card",
    "cable": "cable",
    "switch": "fabric_switch",
}
"""What two may be kept from sharing, and what the engine calls it."""
FAILING = {"cable": "cable", "NIC": "nic", "card": "card", "switch": "fabric_switch", "host": "host"}
"""What may fail, and what the engine calls it."""
FAILING_TWO = {"cables": "cable", "NICs": "nic", "cards": "card", "switches": "fabric_switch", "hosts": "host"}
"""The same where two of them fail."""


@dataclass(frozen=True)
class Subject:
    """Who is meant: `sort` says what of; `name` may have * in it (of an outside network: empty for any); `of` is the host of a host port.  `start` and `end` are where it stands in the sentence."""

    sort: str
    name: str
    of: str = ""
    start: int = 0
    end: int = 0

    def __str__(self) -> str:
        if self.sort in (EVERYTHING, EVERY_HOST) or (self.sort == OUTSIDE and not self.name):
            return self.sort
        name = quoted(self.name)
        if self.sort == HOST_PORT:
            return f"host port {name} of {quoted(self.of)}"
        return name if self.sort == ANYTHING else f"{self.sort} {name}"


Subjects = tuple[Subject, ...]


@dataclass(frozen=True)
class Apart:
    """None of `a` hears or reaches one of `b`, nor the other way round, in any state; `layer2`: over routers they may; `hostile`: whatever
    tags a guest uses and wherever it sends its packets; pairs with one of `without` aside."""

    a: Subjects
    b: Subjects
    layer2: bool = False
    hostile: bool = False
    without: Subjects = ()


@dataclass(frozen=True)
class Reach:
    """Each of `a` gets an answer from each of `b`, in every state; where `through` is said, over one of these alone; where a `protocol` is, at its `port`."""

    a: Subjects
    b: Subjects
    through: Subjects = ()
    protocol: str = ""
    port: int = 0
    at: int = 0


@dataclass(frozen=True)
class Carries:
    """IP packets of `size` bytes (said at character `at`) get from everybody to everybody on these segments."""

    a: Subjects
    size: int
    at: int = 0


@dataclass(frozen=True)
class Share:
    """No two of `a` have one of these `things` in common (values of THINGS)."""

    a: Subjects
    things: tuple[str, ...]


@dataclass(frozen=True)
class LeasesOnly:
    """Where one of `a` asks for a lease, nobody answers but one of `b`."""

    a: Subjects
    b: Subjects


@dataclass(frozen=True)
class Survives:
    """Whichever `thing` fails (a value of FAILING), or whichever two of them, all of one of these groups of segments still hear each other."""

    either: tuple[Subjects, ...]
    thing: str
    two: bool = False

    @property
    def a(self) -> Subjects:
        """All of whom it speaks."""
        return tuple(subject for subjects in self.either for subject in subjects)


Sentence = Apart | Reach | Carries | Share | LeasesOnly | Survives


@dataclass(frozen=True)
class Fault:
    """What is wrong with a sentence: from character `start` to `end`, and the words that could stand there (`names`: a name could too)."""

    start: int
    end: int
    message: str
    could: tuple[str, ...]
    names: bool

    def to_json(self) -> dict[str, Any]:
        """The fault for a program."""
        return {**self.__dict__, "could": list(self.could)}


@dataclass(frozen=True)
class Word:
    """A word of a sentence as it was read: a `word` of the language, a `name`, or a `number`."""

    start: int
    end: int
    sort: str


class RuleError(ValueError):
    """A sentence that can't be read."""

    def __init__(self, fault: Fault) -> None:
        super().__init__(fault.message)
        self.fault = fault


def quoted(name: str) -> str:
    """A name as it stands in a sentence: within quotes where it has blanks, commas or quotes (doubled then), or is a word of the language."""
    if name and name not in WORDS and not any(c.isspace() or c in ',"' for c in name):
        return name
    return '"' + name.replace('"', '""') + '"'


@lru_cache(4096)
def read(text: str) -> Sentence:
    """What a sentence says; RuleError says where it can't be read, and what could stand there."""
    if len(text) > LONGEST:
        message = f"a rule is up to {LONGEST} characters long, and this one has {len(text)}: make several of it"
        raise RuleError(Fault(LONGEST, len(text), message, (), False))
    try:
        made: Sentence = _Maker().transform(_PARSER.parse(text))
    except UnexpectedInput as error:
        raise RuleError(_fault(text, error)) from None
    _make_sense(made)
    return made


def _make_sense(sentence: Sentence) -> None:
    """RuleError where a sentence that can be read says nothing that could be asked."""
    if isinstance(sentence, (Carries, Share, Survives)):
        for subject in sentence.a:
            if subject.sort not in (SEGMENT, ROLE, ANYTHING):
                message = f"{subject} can’t stand here: only segments and roles can"
                raise RuleError(Fault(subject.start, subject.end, message, ("segment", "role"), True))
    if isinstance(sentence, Share) and len(sentence.a) < 2:
        message = "it takes two who share nothing, as in “storage and production share no NIC”"
        raise RuleError(Fault(sentence.a[0].end, sentence.a[0].end, message, ("and", ","), False))
    if isinstance(sentence, Share):
        seen: set[str] = set()
        for subject in sentence.a:
            if str(subject) in seen:
                message = f"{subject} stands here twice, and nobody shares nothing with himself"
                raise RuleError(Fault(subject.start, subject.end, message, (), True))
            seen.add(str(subject))
    if isinstance(sentence, Reach) and sentence.protocol and not 1 <= sentence.port <= 65_535:
        message = f"ports are numbered 1 to 65535, not {sentence.port}"
        raise RuleError(Fault(sentence.at, sentence.at + len(str(sentence.port)), message, (), False))
    if isinstance(sentence, Carries) and not 576 <= sentence.size <= 9216:
        message = f"packets are of 576 to 9216 bytes, not {sentence.size}"
        raise RuleError(Fault(sentence.at, sentence.at + len(str(sentence.size)), message, (), False))


def words(text: str) -> list[Word]:
    """The words of a sentence, as far as it can be read."""
    sorts = {**dict.fromkeys(NAMED, "name"), "NUMBER": "number"}
    return [Word(t.start_pos or 0, t.end_pos or 0, sorts.get(t.type, "word")) for t in _read_so_far(text[:LONGEST])[0]]


def could_follow(text: str) -> tuple[tuple[str, ...], bool]:
    """The words of the language that may stand after the start of a sentence, and whether a name may."""
    return _could(_read_so_far(text[:LONGEST])[1])


def _read_so_far(text: str) -> tuple[list[Token], set[str]]:
    """The tokens of a text up to where it can't be read on, and the kinds of tokens that could stand there."""
    parser = _PARSER.parse_interactive(text)
    taken: list[Token] = []
    # Where it can't be read on, what could stand there is the answer.
    with suppress(UnexpectedInput):
        for token in parser.iter_parse():
            taken.append(token)
    return taken, set(parser.accepts())  # type: ignore[no-untyped-call]


def _could(accepted: Iterable[str]) -> tuple[tuple[str, ...], bool]:
    kinds = set(accepted)
    listed = [word for word in LISTED if (word.upper() if word != "2" else "LAYER_2") in kinds]
    listed += [said for kind, said in (("NUMBER", "a number"), ("COMMA", ",")) if kind in kinds]
    return tuple(listed), not kinds.isdisjoint(NAMED)


def _fault(text: str, error: UnexpectedInput) -> Fault:
    accepted = set(error.accepts or ()) if isinstance(error, UnexpectedToken) else set(error.allowed or ())  # type: ignore[attr-defined]
    ended = isinstance(error, UnexpectedEOF) or (isinstance(error, UnexpectedToken) and error.token.type == "$END")
    start = len(text.rstrip()) if ended else int(error.pos_in_stream or 0)
    end = start
    while end < len(text) and not text[end].isspace() and text[end] != ",":
        end += 1
    end = start if ended else max(end, start + 1)
    could, names = _could(accepted)
    options = ([*could[:8], "a name"] if names else list(could[:8])) or ["nothing more"]
    may = f"{', '.join(options[:-1])} or {options[-1]}" if len(options) > 1 else options[0]
    found = text[start:end]
    if ended:
        message = f"the rule breaks off: {may} could stand here"
    elif found.startswith('"') and text.count('"', start) == 1:
        message = "a quote opens here and doesn’t end"
    else:
        meant = next(iter(get_close_matches(found, could, 1)), None)
        message = f"“{found[:40]}” can’t stand here" + (f"; is “{meant}” meant?" if meant else f": {may} could")
    return Fault(start, end, message, could, names)


@dataclass(frozen=True)
class _Failing:
    thing: str
    two: bool


@dataclass(frozen=True)
class _Part:
    """What is said behind the ends of a sentence."""

    sort: str
    subjects: Subjects = ()


@dataclass(frozen=True)
class _Service:
    """What is asked for at the other end."""

    protocol: str = ""
    port: int = 0
    at: int = 0


@v_args(inline=True)
class _Maker(Transformer[Token, Any]):
    """From the parser's tree to values."""

    def name(self, token: Token) -> Token:
        return token

    def _subject(self, sort: str, *tokens: Token) -> Subject:
        names = [str(t) if t.type == "NAME" else t[1:-1].replace('""', '"') for t in tokens if t.type in NAMED]
        where = (tokens[0].start_pos or 0, tokens[-1].end_pos or 0)
        return Subject(sort, names[0] if names else "", names[1] if len(names) > 1 else "", *where)

    def every_host(self, *tokens: Token) -> Subject:
        return self._subject(EVERY_HOST, *tokens)

    def segment(self, *tokens: Token) -> Subject:
        return self._subject(SEGMENT, *tokens)

    def role(self, *tokens: Token) -> Subject:
        return self._subject(ROLE, *tokens)

    def guest(self, *tokens: Token) -> Subject:
        return self._subject(GUEST, *tokens)

    def station(self, *tokens: Token) -> Subject:
        return self._subject(STATION, *tokens)

    def host(self, *tokens: Token) -> Subject:
        return self._subject(HOST, *tokens)

    def host_port(self, *tokens: Token) -> Subject:
        return self._subject(HOST_PORT, *tokens)

    def adapter(self, *tokens: Token) -> Subject:
        return self._subject(ADAPTER, *tokens)

    def outside(self, *tokens: Token) -> Subject:
        return self._subject(OUTSIDE, *tokens)

    def anything(self, *tokens: Token) -> Subject:
        return self._subject(ANYTHING, *tokens)

    def subjects(self, *parts: Any) -> Subjects:
        return tuple(part for part in parts if isinstance(part, Subject))

    def thing(self, *tokens: Token) -> str:
        return THINGS[" ".join(tokens)]

    def layer2(self, *_: Token) -> _Part:
        return _Part("layer2")

    def hostile(self, *_: Token) -> _Part:
        return _Part("hostile")

    def without(self, _: Token, subjects: Subjects) -> _Part:
        return _Part("without", subjects)

    def through(self, _only: Token, _through: Token, subjects: Subjects) -> _Part:
        return _Part("through", subjects)

    def apart(self, *parts: Any) -> Apart:
        ends = [part for part in parts if isinstance(part, tuple) and not isinstance(part, Token)]
        for token in (part for part in parts if isinstance(part, Token) and part.type == "EVERYTHING"):
            ends.append((self._subject(EVERYTHING, token),))
        said = {part.sort: part.subjects for part in parts if isinstance(part, _Part)}
        return Apart(ends[0], ends[1], "layer2" in said, "hostile" in said, said.get("without", ()))

    def service(self, _: Token, protocol: Token, port: Token) -> _Service:
        return _Service(str(protocol), int(port), port.start_pos or 0)

    def reach(self, *parts: Any) -> Reach:
        ends = [part for part in parts if isinstance(part, tuple) and not isinstance(part, Token)]
        through = next((part.subjects for part in parts if isinstance(part, _Part)), ())
        service = next((part for part in parts if isinstance(part, _Service)), _Service())
        return Reach(ends[0], ends[1], through, service.protocol, service.port, service.at)

    def carries(self, subjects: Subjects, _: Token, number: Token) -> Carries:
        return Carries(subjects, int(number), number.start_pos or 0)

    def share(self, subjects: Subjects, *parts: Any) -> Share:
        return Share(subjects, tuple(dict.fromkeys(part for part in parts if not isinstance(part, Token))))

    def leases(self, *parts: Any) -> LeasesOnly:
        ends = [part for part in parts if isinstance(part, tuple) and not isinstance(part, Token)]
        return LeasesOnly(ends[0], ends[1])

    def failing(self, token: Token) -> _Failing:
        return _Failing(FAILING[str(token)], False)

    def failing_two(self, token: Token) -> _Failing:
        return _Failing(FAILING_TWO[str(token)], True)

    def survives(self, *parts: Any) -> Survives:
        either = tuple(part for part in parts if isinstance(part, tuple))
        [failing] = (part for part in parts if isinstance(part, _Failing))
        return Survives(either, failing.thing, failing.two)

    def rule(self, sentence: Sentence) -> Sentence:
        return sentence


def _terminals() -> str:
    """The words of the language as terminals: whole words, which come before names where both may stand."""
    lines = [f'{word.upper() if word != "2" else "LAYER_2"}.2: /{word}(?![^\\s",])/' for word in LISTED]
    return "\n".join([*lines, 'NUMBER.2: /[0-9]+(?![^\\s",])/'])


_PARSER = Lark(GRAMMAR + _terminals(), start="rule", parser="lalr", maybe_placeholders=False)
