"""States of a document kept in a git repository, through git itself."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from archipelago.answer import Answer
from archipelago.errors import QueryError

MARK = "Recorded-by"
"""The trailer that tells records that were made here from other commits."""
_COMMIT = ("commit", "--quiet", "--cleanup=verbatim", "-m")
_FIELDS = ("%h", "%cI", "%s", "%(trailers:only,unfold)")
_KEPT = ("GIT_AUTHOR_", "GIT_COMMITTER_", "GIT_CONFIG_GLOBAL", "GIT_CONFIG_SYSTEM", "GIT_CONFIG_NOSYSTEM")
"""What of git's own environment is taken over; all else is of whoever called, such as a hook's repository."""
_SETTINGS = ("-c", "trailer.separators=:", "-c", "core.quotePath=false", "-c", "log.showSignature=false")


@dataclass(frozen=True, slots=True, repr=False)
class Record(Answer):
    """A state that was recorded: its name in the repository, when (RFC 3339), why, and what was said of it then."""

    SHOWN = "recording.RECORD"

    name: str
    when: str
    why: str
    said: Mapping[str, str] = field(default_factory=dict)

    @property
    def headline(self) -> str:
        """Its name, when it was recorded, and why."""
        return f"{self.name} {self.when} {self.why}"


class Records(Answer, tuple[Record, ...]):
    """What was recorded of a document, the latest first."""

    SHOWN = "recording.RECORDS"

    @property
    def headline(self) -> str:
        """How many there are."""
        return f"{len(self):,} record{'s' * (len(self) != 1)}"

    def __bool__(self) -> bool:
        return len(self) > 0


class Repository:
    """The repository that a document is in: its folder's own, or one made for it.

    Args:
        path: the document.

    Raises:
        QueryError: git is not there, or the document is none that can be in a repository.
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        if shutil.which("git") is None:
            raise QueryError("records are kept by git, which is not here: install the package git")
        self.file = Path(path)
        self.folder = self.file.parent
        if str(path) == "-" or not self.folder.is_dir():
            raise QueryError(f"'{path}' is in no folder; a record is of a file")
        if self.file.is_symlink():
            raise QueryError(f"'{path}' is a symbolic link; record the file that it leads to: {self.file.resolve()}")

    @property
    def exists(self) -> bool:
        """Whether the folder is in a repository.

        Raises:
            QueryError: it is in one that git does not read.
        """
        done = self._run("rev-parse", "--show-toplevel")
        if done.returncode == 0:
            return True
        here = self.folder.resolve()
        if any((folder / ".git").exists() for folder in (here, *here.parents)):
            raise QueryError(f"git does not read the repository that {self.file} is in: {_told(done)}")
        return False

    def make(self) -> None:
        """Make one in the document's folder, where there is none."""
        if not self.exists:
            self._git("init", "--quiet")

    def keep(self, why: str, said: Mapping[str, str]) -> bool:
        """Record the document as it stands, and nothing else; False where git holds it as it is."""
        name = self.file.name
        staged = self._git("ls-files", "--stage", "--", name)
        self._git("add", "--force", "--", name)
        held = self._git("rev-parse", "--verify", "--quiet", f"HEAD:./{name}", may_fail=True)
        if held is not None and self._git("diff", "--cached", "--quiet", "HEAD", "--", name, may_fail=True) is not None:
            return False
        message = "\n".join([why, "", *(f"{key}: {value}" for key, value in {**said, MARK: "archipelago"}.items())])
        done = self._run(*_COMMIT, message, "--only", "--", name)
        if done.returncode != 0:
            self._unstage(name, staged or "")
            raise QueryError(f"git did not record it: {_told(done, 6)}")
        return True

    def _unstage(self, name: str, before: str) -> None:
        """Leave the index as it was."""
        if not before.strip():
            self._run("rm", "--cached", "--quiet", "--force", "--", name)
            return
        mode, blob, _ = before.split(maxsplit=2)
        path = before.partition("\t")[2].strip("\n")
        self._run("update-index", "--cacheinfo", f"{mode},{blob},{path}")

    def every(self) -> list[Record]:
        """Every commit that holds the document otherwise than the one before, the latest first, also under the names
        that it had. What was said of it then, those have that were made here."""
        if not self.exists or self._git("rev-parse", "--verify", "--quiet", "HEAD", may_fail=True) is None:
            return []
        form = "%x00".join(_FIELDS) + "%x00"
        told = (self._git("log", "--follow", f"--format={form}", "--", self.file.name) or "").split("\0")
        made = []
        for name, when, why, trailers in zip(*(told[at:-1:4] for at in range(4)), strict=True):
            said = dict(line.split(": ", 1) for line in trailers.splitlines() if ": " in line)
            ours = said.pop(MARK, None) is not None
            made.append(Record(name.strip("\n"), when, why, said if ours else {}))
        return made

    def _names(self) -> list[str]:
        """The names that the document had, from the folder of the repository on, the latest first."""
        told = self._git(*["log", "--follow", "--format=", "--name-only", "-z", "--"], self.file.name) or ""
        return list(dict.fromkeys(name.strip("\n") for name in told.split("\0") if name.strip("\n")))

    def is_recorded(self) -> bool:
        """Whether the document is, as it stands, what some commit holds."""
        own = self._git("hash-object", "--", self.file.name, may_fail=True)
        held = {self._blob(record.name) for record in self.every()}
        return own is not None and own.strip() in held

    def _blob(self, commit: str) -> str | None:
        for path in (f"./{self.file.name}", *self._names()):
            blob = self._git("rev-parse", "--verify", "--quiet", f"{commit}:{path}", may_fail=True)
            if blob is not None:
                return blob.strip()
        return None

    def text(self, name: str) -> bytes:
        """The document as it was recorded.

        Raises:
            QueryError: there is no such record of it.
        """
        known = self._git("rev-parse", "--verify", "--quiet", "--end-of-options", f"{name}^{{commit}}", may_fail=True)
        if known is None:
            listed = ", ".join(record.name for record in self.every()[:6]) or "none"
            raise QueryError(f"there is no record '{name}'; there are: {listed}")
        for path in (f"./{self.file.name}", *self._names()):
            content = self._run("cat-file", "--filters", f"{known.strip()}:{path}")
            if content.returncode == 0:
                return content.stdout
        raise QueryError(f"record '{name}' has no {self.file.name}")

    def _git(self, *words: str, may_fail: bool = False) -> str | None:
        done = self._run(*words)
        if done.returncode == 0:
            return done.stdout.decode(errors="replace")
        if may_fail:
            return None
        raise QueryError(f"git {words[0]} failed: {_told(done)}")

    def _run(self, *words: str) -> subprocess.CompletedProcess[bytes]:
        command = ["git", "-C", str(self.folder), *_SETTINGS, *words]
        return _ended_gently(command, self._environment())

    def _environment(self) -> dict[str, str]:
        """Git's own, with a name to record by where none is set."""
        own = {key: value for key, value in os.environ.items() if not key.startswith("GIT_") or key.startswith(_KEPT)}
        plain = {**own, "LC_ALL": "C.UTF-8", "GIT_TERMINAL_PROMPT": "0", "GIT_LITERAL_PATHSPECS": "1"}
        asked = ["git", "-C", str(self.folder), "config", "user.email"]
        known = subprocess.run(asked, capture_output=True, check=False, env=plain).stdout.strip()
        who = (
            {} if known else {f"GIT_{role}_{key}": value for role in ("AUTHOR", "COMMITTER") for key, value in _NOBODY}
        )
        return {**who, **plain}


def _ended_gently(command: list[str], environment: Mapping[str, str]) -> subprocess.CompletedProcess[bytes]:
    """Run a command to its end; where this program is stopped meanwhile, so that git takes its locks away."""
    with subprocess.Popen(
        command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE, env=environment
    ) as process:
        try:
            told, complained = process.communicate()
        except BaseException:
            process.terminate()
            process.wait()
            raise
    return subprocess.CompletedProcess(command, process.returncode, told, complained)


def _told(done: subprocess.CompletedProcess[bytes], lines: int = 1) -> str:
    """What git, or a hook of it, said: the last lines, or that another git is at work."""
    said = [line for line in done.stderr.decode(errors="replace").splitlines() if line.strip()]
    lock = next((line for line in said if ".lock'" in line), None)
    if lock is not None:
        return f"{lock} Another git is at work there, or was stopped: if none is, remove that file"
    first = next((line for line in said if line.startswith("fatal: ")), None)
    if lines == 1 and first is not None:
        return first.removeprefix("fatal: ")
    return "; ".join(said[-lines:]) or f"exit code {done.returncode}"


_NOBODY = (("NAME", "archipelago"), ("EMAIL", "archipelago@localhost"))
