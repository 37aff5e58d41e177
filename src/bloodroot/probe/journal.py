"""The journal of a probe: every request, a line of JSON each, so that a run that was stopped can go on.

A request that changes data is written down before it is sent and again when it is answered. One that was sent and has
no answer is not sent again. The journal has no credentials in it, and nothing of a response but its facts.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, fields
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from ..language.errors import BloodrootError
from .facts import AnsweredBy, ResponseKind, Seen
from .verdicts import Verdict

try:
    import fcntl
except ImportError:  # there is no such module on Windows
    fcntl = None  # type: ignore[assignment]

if TYPE_CHECKING:
    from .plan import Case, Plan
    from .verdicts import Observation

FORMAT = 1
Key = tuple[str, ...]


class JournalError(BloodrootError):
    """A journal that cannot be read, or is of another plan. The message names the file and the way out."""


def number_of(plan: Plan) -> str:
    """A number that two plans share only where they ask the same and declare the same."""
    text = "\n".join(json.dumps([*case.key, case.declared.value]) for case in plan.cases)
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:16]


class Journal:
    """A journal that is being written.

    Args:
        file: where.
        plan: what is going to be asked.
        shard: which part of it.
        resume: whether to go on with what is there.

    Attributes:
        answered: the facts that were written down before, by request.

    Raises:
        JournalError: the file cannot be written, or cannot be gone on with.
    """

    def __init__(self, file: Path, plan: Plan, shard: str, *, resume: bool) -> None:
        self.file = file
        self.answered: dict[Key, Seen] = {}
        number = number_of(plan)
        if resume:
            written = read_journal(file)
            if written.plan != number or written.shard != shard:
                raise JournalError(
                    f"{file}: this journal is of another plan: the policy, the settings, the options or the "
                    "application have changed; begin again without --resume"
                )
            if written.ended:
                raise JournalError(
                    f"{file}: the run of this journal was ended, and nothing of it is left to ask; begin again without "
                    "--resume"
                )
            self.answered = dict(written.answered)
            for key in written.unanswered:
                self.answered[key] = _STOPPED
        try:
            file.parent.mkdir(parents=True, exist_ok=True)
            if resume:
                _cut_at_last_line(file)
            elif file.parent.name == ".bloodroot":
                (file.parent / ".gitignore").write_text("*\n", "utf-8")
            self._file: TextIO = file.open("a", encoding="utf-8")
            self._lock()
            if not resume:
                self._file.truncate(0)
        except OSError as error:
            raise JournalError(
                f"{file}: the journal cannot be written: {error.strerror}; name one with --journal"
            ) from error
        if not resume:
            self._write({"format": FORMAT, "journal": "probe", "plan": number, "shard": shard})
        for key in written.unanswered if resume else ():
            self._write({"answered": list(key), **_as_values(_STOPPED)})

    def _lock(self) -> None:
        """Keep other runs away from the file for as long as it is open.

        Raises:
            JournalError: another run is writing it.
        """
        if fcntl is None:
            return
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            self._file.close()
            raise JournalError(
                f"{self.file}: another probe is writing this journal; wait until it has ended, or name another one "
                "with --journal"
            ) from error

    def sending(self, case: Case) -> None:
        """Write down that a request is about to be sent that may change data."""
        self._write({"sent": list(case.key)})
        self._file.flush()
        os.fsync(self._file.fileno())

    def seen(self, case: Case, seen: Seen) -> None:
        """Write down the facts of a response."""
        self._write({"answered": list(case.key), **_as_values(seen)})
        if not case.safe:
            self._file.flush()

    def end(
        self, observations: Iterable[Observation], faults: Iterable[str], untried: int, doubts: Iterable[str]
    ) -> None:
        """Write down that everything was asked, and what became of it.

        Args:
            observations: the responses, compared with what was declared.
            faults: where signing in does not lead where the settings say.
            untried: how many requests could not be made.
            doubts: what else was not judged.
        """
        self._write({"faults": list(faults)})
        for observation in observations:
            self._write(judged_values(observation))
        self._write({"end": True, "untried": untried, "doubts": list(doubts)})
        self._file.close()

    def close(self) -> None:
        """Close the file."""
        self._file.close()

    def _write(self, values: Mapping[str, Any]) -> None:
        # What changes nothing may be asked again, and need not be on the disk at once.
        self._file.write(_encode(values) + "\n")


_encode = json.JSONEncoder(ensure_ascii=False).encode
_FIELDS = tuple((field.name, field.default) for field in fields(Seen))


def _as_values(seen: Seen) -> dict[str, Any]:
    """The facts of a response, without those that are as usual."""
    return {name: value for name, usual in _FIELDS if (value := getattr(seen, name)) != usual}


_STOPPED = Seen(ResponseKind.LOST, note="the run was stopped while this was under way; it is not sent twice")


@dataclass(frozen=True, slots=True)
class Judged:
    """One judged request.

    Attributes:
        method: its method.
        target: its path and query.
        persona: as whom it was sent.
        sample: which record, in words; an empty string for none in particular.
        endpoint: method and path template, as ``GET /trials/{trial_id}``; an empty string where that is not known.
        verdict: what the probe made of the answer.
        let_in: whether the caller was let in; None where that is not known.
        outcome: ``allow``, ``deny`` or ``sign-in``; ``?`` where that is not known.
        known: conditions that the sample is for, and whether each holds.
        status: the status code; 0 where nothing was answered.
    """

    method: str
    target: str
    persona: str
    sample: str
    endpoint: str
    verdict: Verdict
    let_in: bool | None
    outcome: str
    known: Mapping[str, bool]
    status: int

    @property
    def path(self) -> str:
        """The path alone."""
        return self.target.partition("?")[0]


def judged_values(observation: Observation) -> dict[str, Any]:
    """What a line of a journal says of a judged request."""
    case = observation.case
    if observation.verdict is Verdict.INCONCLUSIVE:
        outcome = "?"
    elif observation.let_in:
        outcome = "allow"
    else:
        # A sign-in may look like a refusal; what was judged to be something else is not called one.
        as_declared = case.declared.value == "sign-in" and observation.verdict is Verdict.AGREE
        asks_to_sign_in = observation.seen.came is ResponseKind.SIGN_IN or as_declared
        outcome = "sign-in" if asks_to_sign_in else "deny"
    return {
        "judged": list(case.key),
        "endpoint": f"{case.asked.method} {case.asked.template.text}",
        "verdict": observation.verdict.value,
        "let_in": observation.let_in,
        "outcome": outcome,
        "known": dict(case.known),
        "status": observation.seen.status,
    }


def judged_of(values: Mapping[str, Any]) -> Judged | None:
    """What a line says of a judged request; None for any other line, or an odd spelling."""
    key, let_in, known = values.get("judged"), values.get("let_in"), values.get("known")
    if not isinstance(key, list) or len(key) != 5 or key[4] or values.get("verdict") not in set(Verdict):
        return None
    method, target, persona, sample = map(str, key[:4])
    endpoint = str(values.get("endpoint", ""))
    of_none = (target, target.partition("?")[0], endpoint.partition(" ")[2])
    return Judged(
        method,
        target,
        persona,
        "" if sample in of_none else sample,
        endpoint,
        Verdict(values["verdict"]),
        let_in if isinstance(let_in, bool) else None,
        str(values.get("outcome", "?")),
        known if isinstance(known, dict) else {},
        values["status"] if isinstance(values.get("status"), int) else 0,
    )


@dataclass(frozen=True, slots=True)
class JudgedRun:
    """What a journal says of a run.

    Attributes:
        requests: the judged requests; of one that was judged again, the last judgment.
        spelled: the verdicts on requests in other spellings.
        faults: where signing in does not lead where the settings say, and what else was found.
        untried: how many requests could not be made; None where the run was not ended.
        doubts: what else was not judged.
    """

    requests: tuple[Judged, ...]
    spelled: tuple[Verdict, ...]
    faults: tuple[str, ...]
    untried: int | None
    doubts: tuple[str, ...] = ()


def read_judged(file: Path) -> JudgedRun:
    """What a journal says of a run.

    Raises:
        JournalError: it cannot be read, or has no judged request.
    """
    judged: dict[Key, Judged] = {}
    spelled: dict[Key, Verdict] = {}
    faults: tuple[str, ...] = ()
    untried: int | None = None
    doubts: tuple[str, ...] = ()
    for values in json_lines(file):
        if values is None:
            continue
        each = judged_of(values)
        if each is not None:
            judged[tuple(map(str, values["judged"]))] = each
        elif isinstance(values.get("judged"), list) and values.get("verdict") in set(Verdict):
            spelled[tuple(map(str, values["judged"]))] = Verdict(values["verdict"])
        elif isinstance(values.get("faults"), list):
            faults = tuple(map(str, values["faults"]))
        elif values.get("end") is True:
            untried = values["untried"] if isinstance(values.get("untried"), int) else None
            doubts = tuple(map(str, values.get("doubts") or ()))
    if not judged:
        raise JournalError(f"{file}: there is no judged request in it; bloodroot probe writes a journal")
    return JudgedRun(tuple(judged.values()), tuple(spelled.values()), faults, untried, doubts)


def json_lines(file: Path) -> Iterator[dict[str, Any] | None]:
    """The objects in a file of JSON Lines; None for a line that is none. Blank lines are left out.

    Raises:
        JournalError: it cannot be read.
    """
    try:
        with file.open(encoding="utf-8", errors="replace") as lines:
            for line in lines:
                if line.strip():
                    values = None
                    with contextlib.suppress(ValueError):
                        values = json.loads(line)
                    yield values if isinstance(values, dict) else None
    except FileNotFoundError as error:
        raise JournalError(f"{file}: there is no such file") from error
    except OSError as error:
        raise JournalError(f"{file}: this file cannot be read: {error.strerror}") from error


class Written:
    """A journal as it was read.

    Attributes:
        plan: the number of its plan.
        shard: which part of it, as ``2/5``.
        answered: the facts of each response, by request.
        unanswered: requests that were sent, and have no answer.
        ended: whether everything was asked.
        faults: where signing in does not lead where the settings say.
        doubts: what else was not judged.
    """

    def __init__(self, plan: str, shard: str) -> None:
        self.plan = plan
        self.shard = shard
        self.answered: dict[Key, Seen] = {}
        self.unanswered: list[Key] = []
        self.ended = False
        self.faults: tuple[str, ...] = ()
        self.doubts: tuple[str, ...] = ()


def read_journal(file: Path) -> Written:
    """Read a journal. A last line that was not finished is left out.

    Raises:
        JournalError: it cannot be read.
    """
    try:
        lines = file.read_text("utf-8").split("\n")
    except FileNotFoundError as error:
        raise JournalError(f"{file}: there is no such journal; begin without --resume") from error
    except (OSError, UnicodeDecodeError) as error:
        raise JournalError(f"{file}: this journal cannot be read: {error}") from error
    written: Written | None = None
    sent: dict[Key, None] = {}
    for number, line in enumerate(lines[:-1], 1):
        try:
            values = json.loads(line)
            if written is None:
                if values.get("journal") != "probe" or values.get("format") != FORMAT:
                    raise ValueError("it does not begin as a journal of a probe")
                written = Written(values["plan"], values["shard"])
            elif "answered" in values:
                key = tuple(values.pop("answered"))
                written.answered[key] = _seen(values)
                sent.pop(key, None)
            elif "sent" in values:
                sent[tuple(values["sent"])] = None
            elif "judged" in values:
                continue
            elif "faults" in values:
                written.faults = tuple(map(str, values["faults"]))
            elif "end" in values:
                written.ended = True
                written.doubts = tuple(map(str, values.get("doubts") or ()))
            else:
                raise ValueError("it is no line of a journal")
        except (ValueError, TypeError, KeyError, AttributeError) as error:
            raise JournalError(f"{file}:{number}: not a probe's journal: {error}") from error
    if written is None:
        raise JournalError(f"{file}: this journal is empty; begin without --resume")
    written.unanswered = list(sent)
    return written


def _seen(values: dict[str, Any]) -> Seen:
    values["came"], values["by"] = ResponseKind(values["came"]), AnsweredBy(values.get("by", AnsweredBy.UNSEEN))
    for name in {"shown", "marks", "words"} & values.keys():
        values[name] = tuple(values[name])
    return Seen(**values)


def _cut_at_last_line(file: Path) -> None:
    """Take off the beginning of a line that was not finished."""
    text = file.read_bytes()
    end = text.rfind(b"\n") + 1
    if end < len(text):
        with file.open("r+b") as opened:
            opened.truncate(end)


def merged(plan: Plan, files: Iterable[Path]) -> tuple[dict[Key, Seen], tuple[str, ...], tuple[str, ...]]:
    """The facts of several journals that are parts of one plan, the faults of signing in, and what was not judged.

    Raises:
        JournalError: one cannot be read, is of another plan or was not ended, or a part is missing.
    """
    number = number_of(plan)
    by_key: dict[Key, Seen] = {}
    faults: dict[str, None] = {}
    doubts: dict[str, None] = {}
    shards: dict[str, Path] = {}
    for file in files:
        written = read_journal(file)
        if written.plan != number:
            raise JournalError(
                f"{file}: this journal is of another plan; probe with the same policy, settings and options everywhere"
            )
        if not written.ended:
            raise JournalError(f"{file}: this run was not ended; go on with --resume --shard {written.shard}")
        if written.shard in shards:
            raise JournalError(f"{file}: {shards[written.shard]} is part {written.shard} as well")
        shards[written.shard] = file
        by_key.update(written.answered)
        faults.update(dict.fromkeys(written.faults))
        doubts.update(dict.fromkeys(written.doubts))
    totals = {shard.partition("/")[2] for shard in shards}
    if len(totals) != 1:
        raise JournalError(f"these are parts of different divisions: {', '.join(shards)}")
    total = int(totals.pop())
    missing = [f"{part}/{total}" for part in range(1, total + 1) if f"{part}/{total}" not in shards]
    if missing:
        raise JournalError(f"parts are missing: {', '.join(missing)}")
    return by_key, tuple(faults), tuple(doubts)
