"""The modules on a call's way, compiled: used where they were compiled from these very sources, and never otherwise."""

import importlib
import os
import shutil
import subprocess
import sys
import sysconfig
from pathlib import Path

import pytest

from tamarack import compiled, compiling
from tamarack.compiled import MODULES, compiled_folder, is_compiled

ROOT = Path(__file__).parent.parent
SHOWN = (
    "from tamarack.compiled import is_compiled; import tamarack.core.carrying.call as call;"
    " print(is_compiled(), call.__file__)"
)


def shown(source: Path, **environment: str) -> tuple[bool, Path]:
    """Whether a program over these sources runs them compiled, and from which file."""
    said = {key: value for key, value in os.environ.items() if key != "TAMARACK_COMPILED"} | environment
    output = subprocess.check_output(
        [sys.executable, "-c", SHOWN], env=said | {"PYTHONPATH": str(source)}, cwd="/", text=True
    )
    whether, file = output.split()
    return whether == "True", Path(file)


def here(source: Path) -> Path:
    return source / "tamarack" / "core" / "carrying" / "call.py"


def test_all_of_them_run_compiled_or_none() -> None:
    kinds = {Path(str(importlib.import_module(module).__file__)).suffix for module in MODULES}
    assert kinds == ({".so"} if is_compiled() else {".py"})


def test_what_was_compiled_is_used_unless_told_otherwise() -> None:
    whether, file = shown(ROOT / "src")
    assert whether == compiled_folder().is_dir()
    assert file.is_relative_to(compiled_folder()) if whether else file == here(ROOT / "src")
    assert shown(ROOT / "src", TAMARACK_COMPILED="no") == (False, here(ROOT / "src"))


def test_sources_that_were_edited_since_are_run_as_they_are(tmp_path: Path) -> None:
    package = tmp_path / "tamarack"
    kept = shutil.ignore_patterns("console", "portal", "web", "worker", "demo", "sign_in", "store", "__pycache__")
    shutil.copytree(ROOT / "src" / "tamarack", package, ignore=kept)
    assert shown(tmp_path)[0] == compiled_folder().is_dir(), "a copy of the same sources is the same"
    with here(tmp_path).open("a") as file:
        file.write("\n# edited\n")
    assert shown(tmp_path) == (False, here(tmp_path))


def test_what_is_not_whole_is_not_used(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(compiled, "compiled_folder", lambda: tmp_path)
    monkeypatch.setattr(sys, "meta_path", [one for one in sys.meta_path if type(one).__name__ != "_Compiled"])
    (tmp_path / "tamarack" / "core" / "carrying").mkdir(parents=True)
    ending = str(sysconfig.get_config_var("EXT_SUFFIX"))
    (tmp_path / "tamarack" / "core" / "carrying" / f"call{ending}").touch()
    compiled.use_compiled()
    assert not is_compiled()


def test_what_is_missing_to_compile_is_named(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr(compiling, "compiled_folder", lambda: tmp_path / "none")
    monkeypatch.setattr(sysconfig, "get_paths", lambda: {"include": str(tmp_path)})
    with pytest.raises(SystemExit, match=r"^3$"):
        compiling.main()
    assert "runs as Python, more slowly: to compile it, install Python's headers" in capsys.readouterr().err
    (tmp_path / "Python.h").touch()
    monkeypatch.setenv("PATH", str(tmp_path))
    with pytest.raises(SystemExit, match=r"^3$"):
        compiling.main()
    assert "install a C compiler (Debian: gcc)" in capsys.readouterr().err
    assert not (tmp_path / "none").exists()


def test_a_failure_to_compile_is_no_lack(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken() -> None:
        raise ValueError("no such type")

    monkeypatch.setattr(compiling, "compiled_folder", lambda: tmp_path / "none")
    monkeypatch.setattr(compiling, "missing", lambda: "")
    monkeypatch.setattr(compiling, "compile_call_path", broken)
    with pytest.raises(SystemExit, match=r"could not be compiled \(no such type\)"):
        compiling.main()


@pytest.mark.skipif(not is_compiled(), reason="the other tests run the sources already")
def test_calls_are_decided_alike_by_the_sources_as_python() -> None:
    """The other tests run what is compiled; these run the sources: drivers, counters, heads."""
    files = ["tests/contracts/test_drivers.py", "tests/core/carrying/test_program.py", "tests/gateway/test_carry.py"]
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-n", "0", *files],
        env=os.environ | {"TAMARACK_COMPILED": "no", "PYTHONPATH": str(ROOT / "src")},
        cwd=ROOT, capture_output=True, text=True, timeout=300,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout[-3000:]
