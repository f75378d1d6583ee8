"""Imports between the rooms point downwards only."""

from __future__ import annotations

import ast
import subprocess
import sys
from functools import cache
from pathlib import Path

import archipelago

ROOT = Path(archipelago.__file__).parent


@cache
def parsed(file: Path) -> ast.Module:
    return ast.parse(file.read_text())


BELOW = {
    "errors": set(),
    "addressing": {"errors"},
    "model": {"addressing", "errors"},
    "files": {"model", "addressing", "errors"},
    "knowledge": {"model", "addressing", "errors"},
    "diagnosis": {"knowledge", "model", "addressing"},
    "design": {"knowledge", "model", "addressing", "errors"},
    "audit": {"diagnosis", "knowledge", "model", "addressing", "errors"},
    "simulation": {"diagnosis", "knowledge", "model", "addressing", "errors"},
    "exchange": {"simulation", "diagnosis", "knowledge", "model", "addressing", "errors"},
    "reachability": {"simulation", "diagnosis", "knowledge", "model", "addressing", "errors"},
    "proof": {
        "files",
        "design",
        "reachability",
        "simulation",
        "audit",
        "diagnosis",
        "knowledge",
        "model",
        "addressing",
        "errors",
    },
    "failures": {
        "proof",
        "files",
        "reachability",
        "simulation",
        "audit",
        "diagnosis",
        "knowledge",
        "model",
        "addressing",
        "errors",
    },
    "load": {"failures", "diagnosis", "reachability", "simulation", "knowledge", "model", "addressing", "errors"},
    "changes": {
        "files",
        "failures",
        "proof",
        "audit",
        "design",
        "reachability",
        "diagnosis",
        "knowledge",
        "model",
        "addressing",
        "errors",
    },
    "weighing": {
        "reachability",
        "addressing",
        "changes",
        "load",
        "failures",
        "proof",
        "design",
        "files",
        "knowledge",
        "model",
        "errors",
    },
    "views": {
        "proof",
        "weighing",
        "changes",
        "load",
        "exchange",
        "failures",
        "reachability",
        "simulation",
        "audit",
        "design",
        "diagnosis",
        "knowledge",
        "model",
        "addressing",
        "errors",
        "files",
    },
}


def imports_of(file: Path) -> set[str]:
    found = set()
    for node in ast.walk(parsed(file)):
        names = [node.module or ""] if isinstance(node, ast.ImportFrom) else []
        names += [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
        found |= {name.split(".")[1] for name in names if name.startswith("archipelago.")}
    return found


STAGES = (
    "reasons",
    "mac",
    "links",
    "shared_aggregates",
    "tree",
    "devices",
    "hosts",
    "topology",
    "domains",
    "routes",
    "elected",
    "advertised",
    "header",
    "filtering",
    "forwarding",
    "delivery",
    "conversing",
    "hearing",
    "pools",
    "kept_leases",
    "leases",
    "learned",
    "known",
)
"""The stages of knowledge, in the order in which they are derived; then what asks them."""
ASKING = ("held", "ways", "index", "alike", "insides", "parts", "outside", "ends")


def trees(*rooms):
    for room in rooms or [""]:
        for file in (ROOT / room).rglob("*.py"):
            yield file, parsed(file)


def test_no_stage_of_knowledge_imports_a_later_one_nor_late():
    order = [*STAGES, *ASKING]
    assert {file.stem for file in (ROOT / "knowledge").glob("*.py")} == {"__init__", *order}
    for file, tree in trees("knowledge"):
        for node in ast.walk(tree):
            module = node.module or "" if isinstance(node, ast.ImportFrom) else ""
            if module.startswith("archipelago.knowledge."):
                later = order.index(module.rpartition(".")[2]) > order.index(file.stem)
                assert not later and node.col_offset == 0, (file, module)


def test_routes_are_looked_up_by_the_forwarding_decision_alone():
    for file, tree in trees():
        calls = [node for node in ast.walk(tree) if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute)]
        if any(call.func.attr == "lookup" for call in calls):
            assert file.stem in ("forwarding", "routes") and file.parent.name == "knowledge", file


def test_functions_modules_and_calls_stay_small():
    for file, tree in trees():
        assert len(file.read_text().splitlines()) <= 600, file
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef):
                assert node.end_lineno - node.lineno < 80, (file, node.name)
            if isinstance(node, ast.Call):
                assert len(node.args) <= 6, (file, node.lineno)


def test_every_room_imports_only_rooms_below_it():
    for room, below in BELOW.items():
        place = ROOT / room
        for file in place.rglob("*.py") if place.is_dir() else [place.with_suffix(".py")]:
            assert imports_of(file) <= below | {room, "progress", "answer"}, file  # which anybody may tell, and be


def test_the_core_neither_prints_nor_reads_clock_or_environment():
    for room in ("addressing", "model", "knowledge", "diagnosis", "design", "audit", "simulation", "reachability"):
        for file in (ROOT / room).rglob("*.py"):
            tree = parsed(file)
            names = {node.id for node in ast.walk(tree) if isinstance(node, ast.Name)}
            modules = {alias.name for n in ast.walk(tree) if isinstance(n, ast.Import) for alias in n.names}
            assert not names & {"print", "open", "input"}, file
            assert not modules & {"os", "time", "datetime", "random", "sys", "pathlib"}, file


def test_heavy_packages_load_only_where_they_are_used():
    code = "import archipelago, archipelago.cli.main, sys; print([m for m in sys.modules])"
    loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    for heavy in ("numpy", "scipy", "pandas", "matplotlib", "pydantic", "yaml", "rich"):
        assert f"'{heavy}'" not in loaded


def test_filters_are_judged_in_one_place():
    """The engines ask `filtering` what a rule says of a header; nobody else looks at what a rule speaks of."""
    for file, tree in trees():
        names = {node.attr for node in ast.walk(tree) if isinstance(node, ast.Attribute)}
        if {"icmp_type", "source_port"} <= names:
            where = f"{file.parent.name}/{file.stem}"
            assert where in (
                "knowledge/filtering",
                "model/filters",
                "model/covering",
                "views/filters",
                "exchange/filters",
            ), file
