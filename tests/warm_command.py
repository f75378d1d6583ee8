"""The real command in processes of its own that are forked from one that has loaded the libraries already: what a test
waits for is the verb, not the start of Python. One process serves one test run; it never runs a verb itself.

python -m warm_command      reads a call in JSON on each line, and answers with its exit code
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

LOADED = ("archipelago.cli.main", "archipelago.api.asking", "numpy", "scipy.sparse.csgraph", "yaml", "rich.console")
"""What most verbs load; archipelago's own rooms are loaded by each call, as they are by the command."""
LONGEST = 120
"""After so many seconds a call is given up."""


class WarmCommand:
    """Runs the command as often as somebody calls it.

    Args:
        words: the call's words.
        cwd: where it is run.
        stdin: what comes in.
    """

    def __init__(self) -> None:
        here = os.pathsep.join([str(Path(__file__).parent), os.environ.get("PYTHONPATH", "")])
        self._server = subprocess.Popen(
            [sys.executable, "-m", "warm_command"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "PYTHONIOENCODING": "utf-8", "PYTHONPATH": here},
        )

    def __call__(
        self, *words: object, cwd: Path | None = None, stdin: str | None = None
    ) -> subprocess.CompletedProcess[str]:
        call = [*map(str, words)]
        with tempfile.TemporaryDirectory() as folder:
            streams = [os.path.join(folder, name) for name in ("stdin", "stdout", "stderr")]
            Path(streams[0]).write_text(stdin or "", encoding="utf-8")
            assert self._server.stdin is not None and self._server.stdout is not None
            self._server.stdin.write(json.dumps([call, str(cwd or os.getcwd()), streams]) + "\n")
            self._server.stdin.flush()
            code = int(self._server.stdout.readline())
            said = [Path(stream).read_text(encoding="utf-8") for stream in streams[1:]]
        return subprocess.CompletedProcess(call, code, *said)

    def close(self) -> None:
        """No more calls."""
        assert self._server.stdin is not None
        self._server.stdin.close()
        self._server.wait()


def serve() -> None:
    """Fork a process for each call, one after the other."""
    for module in LOADED:
        __import__(module)
    for line in sys.stdin:
        words, folder, streams = json.loads(line)
        child = os.fork()
        if not child:
            run(words, folder, streams)
        _, status = os.waitpid(child, 0)
        print(os.waitstatus_to_exitcode(status), flush=True)


def run(words: list[str], folder: str, streams: list[str]) -> None:
    """The command, in this process, which ends with it."""
    import signal

    from archipelago.cli.main import main

    signal.alarm(LONGEST)
    os.chdir(folder)
    for number, (path, flags) in enumerate(zip(streams, (os.O_RDONLY, *[os.O_WRONLY | os.O_CREAT] * 2), strict=True)):
        os.dup2(os.open(path, flags, 0o600), number)
    sys.argv = ["archipelago", *words]
    sys.stdin = os.fdopen(0, encoding="utf-8", closefd=False)
    code: object = 0
    try:
        main()
    except SystemExit as ended:
        code = ended.code
    sys.stdout.flush()
    os._exit(code if isinstance(code, int) else 0)


if __name__ == "__main__":
    serve()
