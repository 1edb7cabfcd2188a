"""Compile the modules on a call's way (`tamarack.compiled`) with mypyc: `python -m tamarack.compiling`.

It takes one to three minutes and asks for a C compiler and Python's headers. What is compiled already is left as it is.
"""

from __future__ import annotations

import os
import shutil
import sys
import sysconfig
import tempfile
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

from tamarack.compiled import MODULES, SOURCES, compiled_folder, source_of
from tamarack.core.text import one_line

LACKING = 3
"""The exit code where something is missing to compile with."""


def missing() -> str:
    """What is missing here to compile with, in words; empty where nothing is."""
    if not Path(sysconfig.get_paths()["include"], "Python.h").exists():
        return "Python's headers (Debian: python3-dev)"
    compiler = (sysconfig.get_config_var("CC") or "cc").split()[0]
    return "" if shutil.which(compiler) else f"a C compiler (Debian: gcc); this Python asks for {compiler}"


def compile_call_path() -> None:
    """Compile, and put all of it in place at once. What was compiled from other sources is removed."""
    from mypyc.build import mypycify
    from setuptools import Extension, setup
    from setuptools.command.build_ext import build_ext

    class BesideEachOther(build_ext):  # type: ignore[misc]
        """Compiles the files of a library beside each other; one after the other takes nearly twice as long."""

        def build_extension(self, ext: Extension) -> None:
            def compiled(source: str) -> list[str]:
                return self.compiler.compile(  # type: ignore[no-any-return]
                    [source], self.build_temp, include_dirs=ext.include_dirs, extra_postargs=ext.extra_compile_args
                )

            with ThreadPoolExecutor(os.cpu_count()) as pool:
                ext.extra_objects = [one for made in pool.map(compiled, ext.sources) for one in made]
            ext.sources = []
            super().build_extension(ext)

    folder = compiled_folder()
    folder.parent.mkdir(exist_ok=True)
    made = Path(tempfile.mkdtemp(dir=folder.parent, prefix="making-"))
    try:
        os.chdir(SOURCES)
        files = [str(source_of(module).relative_to(SOURCES)) for module in MODULES]
        options = ["--config-file", str(SOURCES.parent / "pyproject.toml"), "--cache-dir", str(made / "cache")]
        extensions = mypycify(
            [*options, *files], opt_level="1", debug_level="0", multi_file=True, target_dir=str(made / "c")
        )
        places = ("--build-lib", str(made / "lib"), "--build-temp", str(made / "o"))
        setup(
            name="call-path", packages=[], ext_modules=extensions, cmdclass={"build_ext": BesideEachOther},
            script_args=["--quiet", "build_ext", *places],
        )  # fmt: skip
        for other in folder.parent.iterdir():
            if other not in (made, folder):
                shutil.rmtree(other, ignore_errors=True)
        with suppress(OSError):  # somebody else was faster
            (made / "lib").rename(folder)
    finally:
        shutil.rmtree(made, ignore_errors=True)


def main() -> None:
    """Compile what is not compiled yet. Ends with `LACKING` where something is missing for that, with 1 where it fails;
    its last line says why."""
    if compiled_folder().exists():
        return
    lacking = missing()
    if lacking:
        print(f"The call path runs as Python, more slowly: to compile it, install {lacking}.", file=sys.stderr)
        sys.exit(LACKING)
    try:
        compile_call_path()
    except (Exception, SystemExit) as error:  # whatever it is: the sources run as they are
        sys.exit(f"The call path runs as Python, more slowly: it could not be compiled ({one_line(str(error))[:200]}).")


if __name__ == "__main__":
    main()
