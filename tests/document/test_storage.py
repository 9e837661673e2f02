"""The scene file: whole, cut, tampered, newer, and where it cannot be written."""

import io
import json
import os
import zipfile

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rubberquince.demos import harvest_fair
from rubberquince.document.document import Document
from rubberquince.document.scene import ImportedShape, Piece, Place
from rubberquince.document.storage import load_scene, save_scene
from rubberquince.errors import SceneError
from rubberquince.shapes import primitives
from scenes import small_scene


@pytest.fixture
def saved(tmp_path):
    """A scene with an imported mesh, saved."""
    mesh = primitives.block((2, 2, 2))
    document = Document(small_scene())
    document.add_piece(Piece(id="own", name="Own", shape=ImportedShape(name="own.obj", mesh=mesh.key),
                             place=Place(position=(0, 1, 0))), mesh)
    path = tmp_path / "fair.quince"
    save_scene(path, document.scene, document.meshes)
    return path, document


def rewritten(path, change):
    """The same archive with its description changed."""
    with zipfile.ZipFile(path) as archive:
        files = {name: archive.read(name) for name in archive.namelist()}
    raw = json.loads(files["scene.json"])
    change(raw)
    files["scene.json"] = json.dumps(raw).encode()
    with zipfile.ZipFile(path, "w") as archive:
        for name, data in files.items():
            archive.writestr(name, data)


def refused(path):
    with pytest.raises(SceneError) as caught:
        load_scene(path)
    sentence = str(caught.value)
    assert "\n" not in sentence and sentence.endswith(".") and len(sentence) < 240
    return sentence


def test_a_scene_comes_back_as_it_was(saved):
    path, document = saved
    scene, meshes = load_scene(path)
    assert scene == document.scene
    (key, mesh), = meshes.items()
    assert mesh.key == key and np.array_equal(mesh.points, document.meshes[key].points)
    assert sorted(os.listdir(path.parent)) == ["fair.quince"]


def test_a_scene_of_the_first_version_is_brought_up_to_date(saved):
    path, document = saved

    def age(raw):
        raw["version"] = 1
        for piece in raw["pieces"]:
            piece["shape"].pop("rounded", None)
            del piece["solid"]["weight"], piece["contact"]["bounce"], piece["contact"]["sides"]

    rewritten(path, age)
    assert load_scene(path)[0] == document.scene


def test_the_demo_is_saved_and_loaded(tmp_path):
    save_scene(tmp_path / "demo.quince", harvest_fair.scene(), {})
    assert load_scene(tmp_path / "demo.quince")[0] == harvest_fair.scene()


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(part=st.floats(0.0, 0.999), flip=st.integers(0, 255))
def test_a_cut_or_scratched_file_is_one_sentence_or_whole(saved, tmp_path_factory, part, flip):
    data = bytearray(saved[0].read_bytes())
    cut = tmp_path_factory.mktemp("cut") / "cut.quince"
    cut.write_bytes(data[: int(len(data) * part)])
    refused(cut)
    data[int(len(data) * part)] ^= flip
    cut.write_bytes(data)
    try:
        load_scene(cut)
    except SceneError as error:
        assert "\n" not in str(error)


@pytest.mark.parametrize("change, word", [
    (lambda raw: raw.update(version=99), "newer"),
    (lambda raw: raw.pop("version"), "which version"),
    (lambda raw: raw.update(version=True), "which version"),
    (lambda raw: raw.update(surprise=1), "surprise"),
    (lambda raw: raw["pieces"][0]["solid"].update(stiffness=-5), "stiffness"),
    (lambda raw: raw["pieces"][0]["place"].update(size=[0, 1, 1]), "size"),
    (lambda raw: raw["run"].update(fps=float("inf")), "fps"),
    (lambda raw: raw["pieces"][2]["shape"].update(mesh="0" * 32), "damaged"),
])
def test_tampered_scenes_are_refused_with_the_place(saved, change, word):
    path, _ = saved
    rewritten(path, change)
    assert word in refused(path)


def test_a_file_that_is_none_at_all(tmp_path):
    (tmp_path / "text.quince").write_text("dear diary")
    assert "cut short or damaged" in refused(tmp_path / "text.quince")
    assert "no such file" in refused(tmp_path / "missing.quince")
    assert "not a scene file" in refused(tmp_path)
    os.mkfifo(tmp_path / "pipe.quince")                     # nobody will ever write to it
    assert "not a scene file" in refused(tmp_path / "pipe.quince")
    (tmp_path / "zero.quince").symlink_to("/dev/zero")      # it never ends
    assert "not a scene file" in refused(tmp_path / "zero.quince")


def npy(array, **claims):
    """A .npy file, its header claiming otherwise."""
    buffer = io.BytesIO()
    np.save(buffer, array, allow_pickle=True)
    data = buffer.getvalue()
    for what, other in claims.items():
        old = {"shape": str(array.shape), "descr": repr(array.dtype.str)}[what]
        assert old.encode() in data
        data = data.replace(old.encode(), other.encode()[: len(old) + 40])
    return data


@pytest.mark.parametrize("array", [
    npy(np.array([{"a": 1}, None], object)), npy(np.zeros((3, 3)), shape="(1000000000000, 3)"),
    npy(np.zeros((4, 3), "i8")), npy(np.zeros((3, 3)), shape="(-1, 3)"), npy(np.zeros((2, 2, 2))), b"", b"PK",
    b"\x93NUMPY", npy(np.full((27, 3), np.nan))])
def test_arrays_that_are_not_what_we_write_are_refused(saved, array):
    path, _ = saved
    with zipfile.ZipFile(path) as archive:
        files = {name: archive.read(name) for name in archive.namelist()}
    name = next(name for name in files if name.endswith("/points.npy"))
    with zipfile.ZipFile(path, "w") as archive:
        for other, data in files.items():
            archive.writestr(other, array if other == name else data)
    refused(path)


def test_pieces_of_one_id_are_refused(saved):
    path, _ = saved
    rewritten(path, lambda raw: raw["pieces"].append(raw["pieces"][0]))
    assert "two pieces have the same id" in refused(path)


def test_a_saved_scene_can_be_read_by_those_who_could_before(tmp_path):
    before = os.umask(0o022)
    try:
        save_scene(tmp_path / "new.quince", small_scene(), {})
        os.chmod(tmp_path / "new.quince", 0o664)
        save_scene(tmp_path / "new.quince", small_scene(), {})
        assert (tmp_path / "new.quince").stat().st_mode & 0o777 == 0o664
        save_scene(tmp_path / "other.quince", small_scene(), {})
        assert (tmp_path / "other.quince").stat().st_mode & 0o777 == 0o644
    finally:
        os.umask(before)


def test_a_bomb_is_not_unpacked(tmp_path):
    path = tmp_path / "bomb.quince"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("scene.json", b" " * (65 * 1024 * 1024))
    assert "far too long" in refused(path)


def test_saving_where_one_cannot_leaves_the_old_file(saved):
    path, document = saved
    before = path.read_bytes()
    with pytest.raises(SceneError, match="Could not save"):
        save_scene(path.parent / "no such folder" / "x.quince", document.scene, document.meshes)
    with pytest.raises(KeyError):
        save_scene(path, document.scene, {})            # a defect on the way: the old file stays whole
    assert path.read_bytes() == before
    load_scene(path)
