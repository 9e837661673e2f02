"""The stack of a weight map under its row: how far the value goes, and a strip for each layer."""

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any, get_args, get_origin

from PySide6.QtWidgets import QCheckBox, QComboBox, QFrame, QMenu, QPushButton, QWidget

from rubberquince.document.maps import (
    EdgesRule,
    FacingRule,
    HeightRule,
    InsideRule,
    Join,
    Layer,
    LineRule,
    Map,
    NearRule,
    NoiseRule,
    PartsRule,
    Rule,
    StrokesRule,
    TypedRule,
)
from rubberquince.document.scene import (
    BlockShape,
    Piece,
    Place,
    Recipe,
    RevolvedShape,
    SphereShape,
    changed,
)
from rubberquince.document.values import About, Look, about
from rubberquince.errors import RangeError, SceneError
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import Field, NumberEdit, Value
from rubberquince.ui.parts import calm, column, empty, framed, label, row
from rubberquince.units import tidy

RULES: dict[str, type[Rule]] = {
    "height": HeightRule, "distance from a line": LineRule, "sharp edges": EdgesRule, "what faces a way": FacingRule,
    "nearness to a piece": NearRule, "inside a form": InsideRule, "soft noise": NoiseRule,
    "each connected part": PartsRule, "strokes of a brush": StrokesRule, "typed values": TypedRule}
NAMES = {rule: name for name, rule in RULES.items()}
WITHIN = ("goal.strength", "solid.stiffness", "solid.density", "solid.rest_size")     # what a Solid has inside, too
PLACED = ("x", "y", "z", "width", "height", "depth")        # of a form that is not a piece
FORMS: dict[str, Recipe] = {"box": BlockShape(divisions=(2, 2, 2)), "ball": SphereShape(around=24, rings=12),
                            "tube": RevolvedShape(name="tube", profile=((0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)),
                                                  around=32, bands=8)}
CHOICES = {"axis": "Along", "toward": "Faces", "form": "Form"}
DEPTH = Value("Reaches in", "depth", "length", 0.0, 0.2,
              "How deep under the skin the map goes before it comes to its first value; at 0 it goes all through")
BLUR = About("Blurred over", "length", 0.001, 0.5, "Spreads what the rule says along the skin", log=True)


class MapStack(QFrame):
    """The map of the value at ``path`` of the chosen piece; ``unit`` and bounds are those of the value."""

    def __init__(self, bench: Bench, path: str, said: Value) -> None:
        super().__init__()
        self.setObjectName("stack")
        self._bench, self._path, self._said = bench, path, said
        self.low, self.high = (NumberEdit(f"{said.name} where the map is {end}", said.unit) for end in (0, 1))
        for edit, end in ((self.low, "low"), (self.high, "high")):
            edit.typed.connect(partial(self._range, end))
            edit.refused.connect(bench.say)
        self.strips: list[LayerStrip] = []
        self._rows = column(gap=6)
        self._layers: tuple[object, ...] = ()
        more, gone = QPushButton("Add a rule"), QPushButton("Even again")
        gone.setToolTip("Take the map away: the value is the same everywhere again")
        gone.clicked.connect(self._remove)
        self._menu = QMenu(more)
        for name in RULES:
            self._menu.addAction(name, partial(self.add, name))
        more.setMenu(self._menu)
        self.reaches = Field(replace(DEPTH, unit=bench.scene.length_unit), self._reach_in)
        self.reaches.refused.connect(bench.say)
        self.setLayout(column(row(label("from"), self.low, label("to"), self.high, gap=5), self.reaches, self._rows,
                              row(more, gone, gap=5), margins=(8, 6, 8, 8), gap=6))

    def refresh(self, piece: Piece) -> None:
        a_map = piece.map_of(self._path) or self._fresh()
        self.low.set_value(a_map.low)
        self.high.set_value(a_map.high)
        self.reaches.setVisible(piece.in_cells and self._path in WITHIN)
        self.reaches.show_value(a_map.depth, 0.0)
        made_for = (piece.id, *(type(layer.rule) for layer in a_map.layers),
                    *((c.id, c.name) for c in piece.curves), *((p.id, p.name) for p in self._bench.scene.pieces))
        if made_for != self._layers:
            self._layers = made_for
            empty(self._rows)
            self.strips = [LayerStrip(self._bench, piece, k, layer, partial(self._change, k), partial(self._take, k))
                           for k, layer in enumerate(a_map.layers)]
            for strip in self.strips:
                self._rows.addWidget(strip)
        for strip, layer in zip(self.strips, a_map.layers):
            strip.show_layer(layer)

    def add(self, name: str) -> None:
        """One more layer on top, with a rule by its name in RULES."""
        piece = self._bench.chosen
        if piece is not None:
            a_map = piece.map_of(self._path) or self._fresh()
            rule = RULES[name]()
            if isinstance(rule, InsideRule):
                x, y, z = piece.place.position          # about its top: in the middle it would hold nothing of its skin
                width, height, depth = piece.place.size
                rule = InsideRule(x=x, y=y + height / 2, z=z, width=width / 2, height=height / 2, depth=depth / 2)
            self._put(f"add a rule: {name}", a_map.model_copy(update={"layers": (*a_map.layers, Layer(rule=rule))}))

    def _fresh(self) -> Map:
        return Map(of=self._path, low=max(self._said.low, 0.0), high=self._said.high)

    def _change(self, k: int, layer: Layer) -> None:
        piece = self._bench.chosen
        a_map = piece.map_of(self._path) if piece is not None else None
        if a_map is not None:
            layers = (*a_map.layers[:k], layer, *a_map.layers[k + 1:])
            self._put("change a rule", a_map.model_copy(update={"layers": layers}))

    def _take(self, k: int, up: bool) -> None:
        """Take a layer away, or move it one ``up``."""
        piece = self._bench.chosen
        a_map = piece.map_of(self._path) if piece is not None else None
        if a_map is None:
            return
        layers = list(a_map.layers)
        layer = layers.pop(k)
        if up:
            layers.insert(max(k - 1, 0), layer)
        self._put("move a rule" if up else "take a rule away", a_map.model_copy(update={"layers": tuple(layers)}))

    def _range(self, end: str, number: float) -> None:
        piece = self._bench.chosen
        if piece is None:
            return
        try:
            changed(piece, self._path, number)              # it may have no more than the value itself
            a_map = changed(piece.map_of(self._path) or self._fresh(), end, number)
        except RangeError as error:
            self._bench.say(f"{self._said.name}: it should be {error.relation} {tidy(error.bound, self._said.unit)}.")
        except SceneError as error:
            self._bench.say(str(error))
        else:
            self._put("change the range of a map", a_map)
        self.refresh(self._bench.chosen or piece)

    def _reach_in(self, depth: float) -> bool:
        piece = self._bench.chosen
        if piece is None:
            return False
        if not 0.0 <= depth <= 1e3:
            self._bench.say("Reaches in: it should be between 0 and 1000 m.")
            return False
        a_map = piece.map_of(self._path) or self._fresh()
        self._put("change how deep a map reaches", a_map.model_copy(update={"depth": depth}))
        return True

    def _put(self, what: str, a_map: Map) -> None:
        put_map(self._bench, what, a_map)

    def _remove(self) -> None:
        piece = self._bench.chosen
        if piece is not None:
            others = tuple(m for m in piece.maps if m.of != self._path)
            self._bench.set_value("take a map away", "maps", others, piece.id)
            self._bench.show_map(None)


class LayerStrip(QFrame):
    """One rule: what it is, how it joins those above, and its numbers."""

    def __init__(self, bench: Bench, piece: Piece, number: int, layer: Layer, change: Callable[[Layer], None],
                 take: Callable[[bool], None]) -> None:
        super().__init__()
        self.setObjectName("layer")
        self._bench, self._change, self._layer = bench, change, layer
        self.join = _box("How it joins those above", get_args(Join))
        self.join.activated.connect(lambda _: self._set(join=self.join.currentText()))
        self.join.setVisible(number > 0 and not isinstance(layer.rule, StrokesRule | TypedRule))
        self.inverted, self.shown = QCheckBox("inverted"), QCheckBox()
        self.inverted.setVisible(not isinstance(layer.rule, StrokesRule | TypedRule))
        self.inverted.clicked.connect(lambda on: self._set(inverted=on))
        self.shown.setToolTip("Off: this rule does not count")
        self.shown.setAccessibleName("It counts")
        self.shown.clicked.connect(lambda on: self._set(shown=on))
        up, gone = _bare("↑", "Move it up"), _bare("✕", "Take it away")
        up.clicked.connect(lambda: take(True))
        gone.clicked.connect(lambda: take(False))
        up.setEnabled(number > 0)
        head = row(self.shown, label(NAMES[type(layer.rule)], "head"), gap=4)
        head.addStretch(1)
        for widget in (up, gone):
            head.addWidget(widget)
        self._rows = column(head, row(self.join, self.inverted, gap=6), margins=(6, 4, 6, 6), gap=4)
        self.setLayout(self._rows)
        self.fields: dict[str, Field] = {}
        self.boxes: dict[str, QComboBox] = {}
        self._choices: dict[str, QWidget] = {}
        self._add_choices(layer.rule, piece)
        self.placing = QPushButton("Place it in the view")
        self.placing.setToolTip("Makes a piece of this form, which can be moved, turned and keyed as others are")
        self.placing.clicked.connect(self._place)
        self._rows.addWidget(self.placing)
        for name, said in about(type(layer.rule)).items():
            self._add_field(name, said, partial(self._number, name))
        self._said = label("", "small", wrap=True)
        self._rows.addWidget(self._said)
        if not isinstance(layer.rule, TypedRule):
            self._add_field("blur", BLUR, lambda number: self._blur(number))

    def show_layer(self, layer: Layer) -> None:
        self._layer, rule = layer, layer.rule
        self.join.setCurrentText(layer.join)
        self.inverted.setChecked(layer.inverted)
        self.shown.setChecked(layer.shown)
        for name, field in self.fields.items():
            usual = 0.0 if name == "blur" else type(rule).model_fields[name].default
            field.show_value(layer.blur if name == "blur" else float(getattr(rule, name)), float(usual))
        for name, box in self.boxes.items():
            box.setCurrentIndex(max(box.findData(getattr(rule, name)), 0))
        by_piece = isinstance(rule, InsideRule) and rule.form == "a piece"
        self.placing.setVisible(isinstance(rule, InsideRule) and not by_piece)
        if isinstance(rule, InsideRule):
            self._choices["piece"].setVisible(by_piece)
            for name in PLACED:
                self.fields[name].setVisible(not by_piece)
        if isinstance(rule, StrokesRule):
            self._said.setText(f"{len(rule.strokes)} strokes. Paint with “paint” in the view.")
        elif isinstance(rule, TypedRule):
            self._said.setText(f"{len(rule.places)} points have values. Choose points with “choose” in the view.")
        self._said.setVisible(isinstance(rule, StrokesRule | TypedRule))

    def _add_choices(self, rule: Rule, piece: Piece) -> None:
        for name, field in type(rule).model_fields.items():
            if name in CHOICES:
                self._choice(name, CHOICES[name], [(word, word) for word in _words(field.annotation)])
        if isinstance(rule, LineRule):
            self._choice("curve", "Line", [("", "the outline"), *((c.id, c.name) for c in piece.curves)])
        elif isinstance(rule, NearRule | InsideRule):
            others = [(p.id, p.name) for p in self._bench.scene.pieces if p.id != piece.id]
            self._choice("piece", "Piece", [("", "none yet"), *others])

    def _place(self) -> None:
        """Put a piece of the rule's form where it is, and let the rule go by that."""
        rule, piece, document = self._layer.rule, self._bench.chosen, self._bench.document
        if not isinstance(rule, InsideRule) or piece is None:
            return
        form = Piece(id=document.new_id(), name=document.new_name(f"{rule.form.capitalize()} of a map"),
                     shape=FORMS[rule.form], role="scenery", look=Look(material="film", colour="#8C3A5B"),
                     place=Place(position=(rule.x, rule.y, rule.z), size=(rule.width, rule.height, rule.depth)))
        goes_by = self._layer.model_copy(update={"rule": rule.model_copy(update={"form": "a piece", "piece": form.id})})
        maps = tuple(one.model_copy(update={"layers": tuple(goes_by if layer is self._layer else layer
                                                            for layer in one.layers)}) for one in piece.maps)
        scene = document.scene.with_piece(piece.model_copy(update={"maps": maps}))
        document.push("place a form", scene.model_copy(update={"pieces": (*scene.pieces, form)}))

    def _choice(self, name: str, called: str, choices: list[tuple[str, str]]) -> None:
        box = calm(QComboBox())
        box.setAccessibleName(called)
        for key, text in choices:
            box.addItem(text, key)
        box.activated.connect(lambda _: self._number(name, box.currentData()))
        self.boxes[name], self._choices[name] = box, framed(row(label(called), box, gap=6), "plain")
        self._rows.addWidget(self._choices[name])

    def _add_field(self, name: str, said: About, do: Callable[[float], bool]) -> None:
        unit = self._bench.scene.length_unit if said.unit == "length" else said.unit
        field = Field(Value(said.name, name, unit, said.low, said.high, said.tip, said.log), do)
        field.swept.connect(lambda begins: self._bench.document.begin_gesture() if begins
                            else self._bench.document.end_gesture())
        field.refused.connect(self._bench.say)
        self.fields[name] = field
        self._rows.addWidget(field)

    def _number(self, name: str, value: object) -> bool:
        """Give the rule another value by its name; False, and a sentence, when it may not have it."""
        if isinstance(getattr(self._layer.rule, name), int) and isinstance(value, float):
            value = round(value)
        said = about(type(self._layer.rule)).get(name)
        try:
            rule = changed(self._layer.rule, name, value)
        except RangeError as error:
            unit = "" if said is None else (self._bench.scene.length_unit if said.unit == "length" else said.unit)
            self._bench.say(f"{said.name if said else name}: it should be {error.relation} {tidy(error.bound, unit)}.")
            return False
        except SceneError as error:
            self._bench.say(str(error))
            return False
        self._set(rule=rule)
        return True

    def _blur(self, width: float) -> bool:
        if not 0.0 <= width <= 100.0:
            self._bench.say("Blurred over: it should be between 0 and 100 m.")
            return False
        self._set(blur=width)
        return True

    def _set(self, **values: Any) -> None:
        self._change(self._layer.model_copy(update=values))


def put_map(bench: Bench, what: str, a_map: Map) -> None:
    """Give the chosen piece a map, in the place of the one of the same value."""
    piece = bench.chosen
    if piece is not None:
        others = tuple(m for m in piece.maps if m.of != a_map.of)
        bench.set_value(what, "maps", (*others, a_map), piece.id)


def _words(annotation: Any) -> tuple[str, ...]:
    return get_args(annotation) if get_origin(annotation) is not None else ()


def _box(name: str, words: tuple[str, ...]) -> QComboBox:
    box = calm(QComboBox())
    box.setAccessibleName(name)
    box.addItems(list(words))
    return box


def _bare(text: str, name: str) -> QPushButton:
    button = QPushButton(text)
    button.setObjectName("bare")
    button.setFixedSize(20, 20)
    button.setAccessibleName(name)
    button.setToolTip(name)
    return button


def square(bench: Bench, path: str, name: str) -> QPushButton:
    """The square at the end of a row: empty where the value is even, filled where it has a map."""
    button = QPushButton()
    button.setObjectName("square")
    button.setCheckable(True)
    button.setFixedSize(18, 18)
    button.setAccessibleName(f"Map of {name}")
    button.setToolTip(f"{name} by a map: another value from place to place")
    button.clicked.connect(lambda on: bench.show_map(path if on else None))
    return button
