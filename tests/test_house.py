"""The house: which room may import which, examples that run, a public face that holds what it names."""

import ast
import re
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
import pytest

import jagged_quilt as jq
from jagged_quilt.images import read_image

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "jagged_quilt"
BELOW = {
    "foundation": set(),
    "codecs": {"foundation"},
    "maps": {"foundation", "codecs"},
    "audit": {"foundation", "codecs", "maps"},
    "arrays": {"foundation", "codecs", "maps"},
    "meshes": {"foundation", "maps"},
    "meshfiles": {"foundation", "maps", "meshes"},
    "surfaces": {"foundation", "maps", "meshes"},
    "masks": {"foundation", "maps"},
    "weights": {"foundation", "maps", "masks"},
    "blend": {"foundation", "maps", "arrays", "masks", "weights"},
    "light": {"foundation", "maps"},
    "baking": {"foundation", "maps", "arrays", "meshes", "surfaces", "masks", "weights", "blend"},
    "show": {"foundation", "maps", "audit", "arrays", "meshes", "surfaces", "masks", "weights", "blend", "light"},
    "export": {
        *("foundation", "codecs", "maps", "arrays", "meshes", "meshfiles", "surfaces", "masks", "weights", "blend", "light"),
        "baking",
    },
    "demo": {"foundation", "maps", "meshes", "meshfiles", "quiltfile"},
}
BELOW["quiltfile"] = {*BELOW} - {"demo"}
BELOW["results"] = {*BELOW} - {"demo"}
BELOW["live"] = {*BELOW} - {"demo"}
BELOW["cli"] = {*BELOW}
CORE = set(BELOW) - {"quiltfile", "results", "live", "demo", "cli"}


def imports_of(path):
    """The modules that a file imports, wherever in it."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom):
            yield node.module or ""
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


@pytest.mark.parametrize("room", sorted(BELOW))
def test_a_room_imports_only_rooms_below_it(room):
    files = sorted((SOURCE / room).glob("*.py"))
    assert files
    for path in files:
        for module in imports_of(path):
            if module.startswith("jagged_quilt."):
                assert module.split(".")[1] in BELOW[room] | {room}, f"{path.name} imports {module}"


def test_every_folder_is_a_room_of_the_table():
    assert {p.name for p in SOURCE.iterdir() if p.is_dir() and p.name not in ("__pycache__", "compiled")} == set(BELOW)


def modules():
    """Every module of ours by its full name, with its tree."""
    for path in sorted(SOURCE.rglob("*.py")):
        name = ".".join(("jagged_quilt", *path.relative_to(SOURCE).with_suffix("").parts)).removesuffix(".__init__")
        yield name, ast.parse(path.read_text())


def test_no_import_leads_in_a_circle():
    """Lazy ones, those for types, and kernels that are loaded when they are called count, too."""
    trees = dict(modules())
    asks = {name: set() for name in trees}
    for name, tree in trees.items():
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("jagged_quilt."):
                asks[name] |= {each if (each := f"{node.module}.{one.name}") in trees else node.module for one in node.names}
            elif isinstance(node, ast.Import):
                asks[name] |= {one.name for one in node.names}
            elif isinstance(node, ast.Call) and getattr(node.func, "id", "") == "kernels_of":
                asks[name].add(node.args[0].value)
    asks = {name: (others & set(trees)) - {name, "jagged_quilt"} for name, others in asks.items()}
    while free := {name for name, others in asks.items() if not others}:
        asks = {name: others - free for name, others in asks.items() if name not in free}
    assert not asks, "these import each other, or what does"


def test_the_rows_of_a_kernel_are_found_by_their_names_alone():
    for path in SOURCE.rglob("_*kernels.py"):
        text = path.read_text()
        assert path.name == "_lane_kernels.py" or not re.search(r"\brows\[INDEX\(", text), path
        if path.parent.name in ("blend", "light"):
            assert not re.search(r"\* (?:B|LANES) \+ t\b", text), f"{path} counts rows by hand"


def test_classes_and_calls_are_small():
    """The values that the trade asks most of may answer a few questions more."""
    large, wide = {"Mesh": 20, "TextureArrays": 16, "BlendPlan": 16}, {"bake", "bake_pages", "of"}
    for name, tree in modules():
        for node in ast.walk(tree):
            if isinstance(node, ast.ClassDef):
                public = [each for each in node.body if isinstance(each, ast.FunctionDef) and not each.name.startswith("_")]
                assert len(public) <= large.get(node.name, 15), f"{name}.{node.name} has {len(public)} public methods"
            elif isinstance(node, ast.FunctionDef):
                given = [a.arg for a in (*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs)]
                assert len(set(given) - {"self", "cls"}) <= (10 if node.name in wide else 8), f"{name}.{node.name}"


def test_modules_are_short_and_typed():
    texts = {path: path.read_text() for path in SOURCE.rglob("*.py")}
    assert not [path.name for path, text in texts.items() if text.count("\n") > 450]
    code = re.compile(r"^(?!\s*(?:from|import)\b)(?!.*# Any )(?!.*\bAny (?:number|other)\b).*\bAny\b", re.MULTILINE)
    assert sum(len(code.findall(text)) for text in texts.values()) < 30


def test_values_load_no_compiler():
    """Nor does a quilt file that is wrong: what is wrong is told without waiting for it."""
    code = (
        "import sys, jagged_quilt as jq\n"
        "jq.Triplanar(), jq.Layer('a'), jq.HeightBand(0, 1) * jq.Noise(size=2), jq.Sun(), jq.Film(mask=jq.Slope(0, 9))\n"
        "jq.Tuning(), jq.Medley, jq.Camera(position=(0, 1, 0), target=(1, 0, 0)), jq.Cylindrical()\n"
        "try:\n    jq.read_quilt(sys.argv[1])\n"
        "except jq.QuiltError as error:\n    print(error)\n"
        "assert 'numba' not in sys.modules\n"
    )
    file = SOURCE / "demo" / "saltworks.quilt.toml"
    with tempfile.TemporaryDirectory() as folder:
        wrong = Path(folder, "wrong.quilt.toml")
        wrong.write_text(file.read_text().replace("softness =", "softnes =", 1))
        done = subprocess.run([sys.executable, "-c", code, wrong], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    assert 'did you mean "softness"' in done.stdout


def test_the_core_knows_no_terminal():
    for room in CORE:
        for path in (SOURCE / room).glob("*.py"):
            assert not {m.split(".")[0] for m in imports_of(path)} & {"click", "rich", "argparse", "tqdm"}, path


def test_the_face_holds_what_it_names():
    for name in jq.__all__:
        assert getattr(jq, name).__doc__, name
    assert set(jq.__all__) == set(dir(jq))
    with pytest.raises(AttributeError):
        _ = jq.nothing_of_the_kind


@pytest.mark.parametrize("example", sorted((ROOT / "examples").glob("*.py")), ids=lambda p: p.stem)
def test_an_example_runs_and_ends_in_a_picture(example, saltworks, tmp_path):
    subprocess.run([sys.executable, example, saltworks.parent, tmp_path], check=True, capture_output=True, timeout=300)
    pictures = list(tmp_path.rglob("*.png"))
    assert pictures
    assert all(np.ptp(read_image(p).astype(float)) > 0 for p in pictures if "specular" not in p.name)


class TestPictures:
    def test_triplanar_stretches_the_risers_less(self, saltworks):
        from jagged_quilt.show.riser import stretch_of

        points = jq.read_quilt(saltworks).terrain.points((512, 512))
        steep = points[points.normal[:, 1] < np.cos(np.pi / 4)]
        assert np.percentile(stretch_of(steep, jq.Planar()), 99) > 3
        assert np.percentile(stretch_of(steep, jq.Triplanar(4)), 99) < 1.8

    def test_sheets_take_more_than_fits_on_one(self):
        from conftest import made_swatch
        from jagged_quilt.show.sheets import swatch_sheets, weight_sheets

        assert len(swatch_sheets([made_swatch(str(n), n) for n in range(14)])) == 3
        layers = [jq.Layer("0")] + [jq.Layer(str(n), mask=jq.Constant(0.2)) for n in range(1, 20)]
        flat = jq.Terrain(np.zeros((2, 2)), size=(8, 4))
        assert [b.pixels().shape for b in weight_sheets(jq.weigh(flat.canvas(16), layers), 32.0)] == [(800, 1280, 3)] * 3

    def test_a_layer_wears_one_colour_that_its_neighbours_do_not(self):
        """Also for eyes without the long, the middle or the short cones; and in its new home that of its home."""
        from jagged_quilt.foundation.colour import oklab
        from jagged_quilt.show.key_colours import _SEEN, colours_at_home, key_colours

        names = [str(n) for n in range(16)]
        colours = key_colours(names)
        assert np.array_equal(colours[:5], key_colours(names[:5]))
        linear = np.where(colours <= 10, colours / 255 / 12.92, ((colours / 255 + 0.055) / 1.055) ** 2.4)
        for matrix, least in zip(_SEEN, (0.11, 0.1, 0.1, 0.06), strict=True):
            seen = oklab(np.clip(linear @ matrix.T, 0, 1))
            assert (np.linalg.norm(seen[1:] - seen[:-1], axis=1) > least).all()
        assert oklab(linear)[:, 0].min() > 0.6
        new = ("clay", "stone: red", "stone: grey")
        at_home = colours_at_home(("mud", "rock", "stone", "lost"), {"mud": "clay", "rock": "stone"}, new)
        assert np.array_equal(at_home[:3], key_colours(new)[[0, 1, 1]])
        assert not (at_home[3] == key_colours(new)).all(axis=1).any()
