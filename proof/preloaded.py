"""The program, loaded once and forked for each command: hundreds of commands spend most of their time in loading it.

A command runs as it would by itself: in a process, with a folder, an environment and output of its own. As a program this is the
server; requests and answers are lines of JSON on its standard input and output.
"""

import gc
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import IO, Any, cast

SHORT_PAUSE = "from bramblemoor.library.stocktake import stock; stock._QUIET = 200_000_000"
"""Stocktake waits until a file was left alone for two seconds. With a tenth of that it waits just so, and not as long."""


class Preloaded:
    """A server, as its user sees it. It ends with the process that started it. `changed` is Python run in it first."""

    def __init__(self, changed: str = "") -> None:
        environment = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
        self._server = subprocess.Popen(
            [sys.executable, __file__, changed],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            env=environment,
        )

    def run(
        self, arguments: Sequence[str], cwd: Path, environment: Mapping[str, str], kill_after: float = 0
    ) -> subprocess.CompletedProcess[str]:
        """Run a command; `kill_after` so many seconds, if it is given."""
        with (
            tempfile.TemporaryFile("w+", errors="replace") as out,
            tempfile.TemporaryFile("w+", errors="replace") as err,
        ):
            request = {
                "arguments": list(arguments), "cwd": str(cwd), "environment": dict(environment), "kill_after": kill_after,
                "out": f"/proc/{os.getpid()}/fd/{out.fileno()}", "err": f"/proc/{os.getpid()}/fd/{err.fileno()}",
            }  # fmt: skip
            to, back = cast(IO[str], self._server.stdin), cast(IO[str], self._server.stdout)
            to.write(json.dumps(request) + "\n")
            to.flush()
            code = json.loads(back.readline())
            out.seek(0)
            err.seek(0)
            return subprocess.CompletedProcess(list(arguments), code, out.read(), err.read())


def _serve() -> None:
    from importlib import import_module

    from bramblemoor.cli.main import MODULES, main

    for module in sorted(set(MODULES.values())):
        import_module(f"bramblemoor.cli.{module}")
    for module in (
        "depots.backup",
        "depots.verify",
        "depots.mend",
        "depots.restore",
        "depots.binding",
        "library.stocktake.entering",
        "exports.unpack",
        "services.book",
    ):
        import_module(f"bramblemoor.{module}")
    for module in ("numpy", "PIL.Image", "pillow_heif"):  # what an unpacking loads besides
        import_module(module)
    exec("".join(sys.argv[1:]))
    # What is loaded stays: a command that looks through it for garbage would copy it, page by page.
    gc.collect()
    gc.freeze()
    for line in sys.stdin:
        request = json.loads(line)
        child = os.fork()
        if not child:
            _be(request, main)
        if request["kill_after"]:
            time.sleep(request["kill_after"])
            os.kill(child, signal.SIGKILL)
        _, status = os.waitpid(child, 0)
        print(json.dumps(os.waitstatus_to_exitcode(status)), flush=True)


def _be(request: dict[str, Any], main: object) -> None:
    """In the child: become the command. Never returns."""
    code = 1
    try:
        os.environ.clear()
        os.environ.update(request["environment"])
        os.chdir(request["cwd"])
        writing = os.O_WRONLY
        for target, path, flags in (
            (0, os.devnull, os.O_RDONLY),
            (1, request["out"], writing),
            (2, request["err"], writing),
        ):
            source = os.open(path, flags)
            os.dup2(source, target)
            os.close(source)
        sys.stdin, sys.stdout, sys.stderr = os.fdopen(0), os.fdopen(1, "w"), os.fdopen(2, "w")
        ahead = float(os.environ.get("DAYS_AHEAD", "0")) * 86400
        if ahead:
            real = time.time
            time.time = lambda: real() + ahead
        sys.argv = ["bramblemoor", *request["arguments"]]
        try:
            main()  # type: ignore[operator]
            code = 0
        except SystemExit as ended:
            code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
        sys.stdout.flush()
        sys.stderr.flush()
    except BaseException:
        import traceback

        traceback.print_exc()
        sys.stderr.flush()
    finally:
        os._exit(code)


if __name__ == "__main__":
    _serve()
