"""States of a document kept in a git repository, through git itself."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from archipelago.errors import QueryError

MARK = "Recorded-by"
"""The trailer that tells records from other commits."""
_COMMIT = ("commit", "--quiet", "--allow-empty", "--cleanup=verbatim", "-m")
_FIELD, _ENTRY = "\x1f", "\x1e"


@dataclass(frozen=True, slots=True)
class Record:
    """A state that was recorded: its name in the repository, when (RFC 3339), why, and what was said of it then."""

    name: str
    when: str
    why: str
    said: Mapping[str, str] = field(default_factory=dict)

    def __str__(self) -> str:
        return f"{self.name} {self.when} {self.why}"


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

    @property
    def exists(self) -> bool:
        """Whether the folder is in a repository."""
        return self._git("rev-parse", "--show-toplevel", may_fail=True) is not None

    def make(self) -> None:
        """Make one in the document's folder, where there is none."""
        if not self.exists:
            self._git("init", "--quiet")

    def keep(self, why: str, said: Mapping[str, str]) -> bool:
        """Record the document as it stands, and nothing else; False where it is as it was recorded last."""
        name = self.file.name
        self._git("add", "--force", "--", name)
        if self._git("diff", "--cached", "--quiet", "--", name, may_fail=True) is not None and self.every():
            return False
        message = "\n".join([why, "", *(f"{key}: {value}" for key, value in {**said, MARK: "archipelago"}.items())])
        self._git(*_COMMIT, message, "--only", "--", name)
        return True

    def every(self) -> list[Record]:
        """What was recorded of the document, the latest first."""
        if not self.exists or self._git("rev-parse", "--verify", "--quiet", "HEAD", may_fail=True) is None:
            return []
        form = _FIELD.join(("%h", "%cI", "%s", "%(trailers:only,unfold)")) + _ENTRY
        told = self._git("log", f"--format={form}", "--", self.file.name) or ""
        made = []
        for entry in told.split(_ENTRY):
            if entry.strip():
                name, when, why, trailers = entry.strip("\n").split(_FIELD)
                said = dict(line.split(": ", 1) for line in trailers.splitlines() if ": " in line)
                if said.pop(MARK, None) is not None:
                    made.append(Record(name, when, why, said))
        return made

    def text(self, name: str) -> bytes:
        """The document as it was recorded.

        Raises:
            QueryError: there is no such record of it.
        """
        known = self._git("rev-parse", "--verify", "--quiet", "--end-of-options", f"{name}^{{commit}}", may_fail=True)
        if known is None:
            listed = ", ".join(record.name for record in self.every()[:6]) or "none"
            raise QueryError(f"there is no record '{name}'; there are: {listed}")
        content = self._run("show", f"{known.strip()}:./{self.file.name}")
        if content.returncode != 0:
            raise QueryError(f"record '{name}' has no {self.file.name}")
        return content.stdout

    def _git(self, *words: str, may_fail: bool = False) -> str | None:
        done = self._run(*words)
        if done.returncode == 0:
            return done.stdout.decode(errors="replace")
        if may_fail:
            return None
        told = done.stderr.decode(errors="replace").strip().splitlines()
        raise QueryError(f"git {words[0]} failed: {told[-1] if told else f'exit code {done.returncode}'}")

    def _run(self, *words: str) -> subprocess.CompletedProcess[bytes]:
        command = ["git", "-C", str(self.folder), *words]
        return subprocess.run(
            command, capture_output=True, check=False, env=self._environment(), stdin=subprocess.DEVNULL
        )

    def _environment(self) -> dict[str, str]:
        """Git's own, with a name to record by where none is set."""
        asked = ["git", "-C", str(self.folder), "config", "user.email"]
        known = subprocess.run(asked, capture_output=True, check=False).stdout.strip()
        who = (
            {} if known else {f"GIT_{role}_{key}": value for role in ("AUTHOR", "COMMITTER") for key, value in _NOBODY}
        )
        return {**who, **os.environ, "LC_ALL": "C.UTF-8", "GIT_TERMINAL_PROMPT": "0"}


_NOBODY = (("NAME", "archipelago"), ("EMAIL", "archipelago@localhost"))
