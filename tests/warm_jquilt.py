"""`jquilt` as processes that start at once: each is forked from this one, which has loaded the package and its kernels.

Run as a script it reads a line of JSON for each process to start: words, cwd, env and the two files for what it writes; and
answers with its exit code.
"""

import json
import os
import sys
import traceback


def serve():
    from jagged_quilt.cli.main import COMMANDS, jquilt
    from jagged_quilt.results.rehearsal import rehearse

    for name in COMMANDS:
        jquilt.get_command(None, name)
    rehearse()
    print("ready", flush=True)
    for line in sys.stdin:
        asked = json.loads(line)
        child = os.fork()
        if not child:
            run(**asked)
        print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), flush=True)


def run(words, cwd, env, out, err):
    """Be a process of its own: with its own files for what it writes, its own folder and environment."""
    from jagged_quilt.cli.main import main

    for stream, path in ((0, os.devnull), (1, out), (2, err)):
        os.dup2(os.open(path, os.O_RDWR | os.O_CREAT), stream)
    sys.stdout, sys.stderr = open(1, "w", encoding="utf-8"), open(2, "w", encoding="utf-8")  # noqa: SIM115
    os.chdir(cwd)
    os.environ.update(env)
    sys.argv = ["jquilt", *words]
    code = 0
    try:
        main()
    except SystemExit as stop:
        code = stop.code or 0
    except BaseException:
        traceback.print_exc()
        code = 1
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


if __name__ == "__main__":
    serve()
