"""Goal: where a piece is drawn to, and how strongly."""

import numpy as np
from PySide6.QtWidgets import QCheckBox, QComboBox

from rubberquince.bake.goals import HELD, goal_stiffness
from rubberquince.document.scene import Piece
from rubberquince.document.values import GoalValues, RigidValues, SolidValues
from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import calm, framed, label
from rubberquince.ui.sheet.section import Section, named_row
from rubberquince.units import show

TO = (("nothing", "nothing", "It goes where it is pushed"),
      ("its own shape", "its own shape", "It comes back to the shape and the place that it starts with"))
HOW = (("every point", "Each point is drawn to its own place"),
       ("its middle", "Only the middle is drawn: it may turn and wobble about it"),
       ("its mean height", "Points are drawn to the side only, and all together up or down: waves run over it freely"),
       ("as a whole", "The middle and the turn are drawn, as of a rigid thing: it may wobble about them"))


class GoalSection(Section):
    """What it returns to, by what, and with which strength."""

    title = "Goal"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.to, self.how = calm(QComboBox()), calm(QComboBox())
        self.to.setAccessibleName("Returns to")
        self.how.setAccessibleName("What is drawn")
        for key, tip in HOW:
            self.how.addItem(key, key)
            self.how.setItemData(self.how.count() - 1, tip, 3)
        self.to.activated.connect(self._draw_to)
        self.how.activated.connect(lambda _: self._set("change what is drawn", "goal.how", self.how.currentData()))
        self.rows.addLayout(named_row("Returns to", self.to))
        self._how_row = framed(named_row("Draws", self.how), "plain")
        self.rows.addWidget(self._how_row)
        self.add_values("goal", GoalValues(), "strength")
        self.firmness = label("", "small", wrap=True)
        self.rows.addWidget(self.firmness)
        self.add_values("goal", GoalValues(), "settles")
        self.threads = QCheckBox("Show threads to the goal")
        self.threads.setToolTip("Lines in the view from the skin to where it is drawn: the longer, the farther")
        self.threads.clicked.connect(lambda on: bench.show_threads("goal", on))
        self.rows.addWidget(self.threads)

    def applies(self, piece: Piece) -> bool:
        return piece.moves

    def shows(self, piece: Piece, path: str) -> bool:
        return piece.goal.to != "nothing"

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.to.clear()
        for key, name, tip in TO:
            self.to.addItem(name, key)
            self.to.setItemData(self.to.count() - 1, tip, 3)
        for other in self.bench.scene.pieces:
            if other.id != piece.id:
                self.to.addItem(other.name, f"another piece:{other.id}")
        goal = piece.goal
        self.to.setCurrentIndex(max(self.to.findData(
            f"{goal.to}:{goal.piece}" if goal.to == "another piece" else goal.to), 0))
        self.how.setCurrentIndex(self.how.findData(goal.how))
        on = goal.to != "nothing"
        self.threads.setChecked("goal" in self.bench.threads)
        for widget in (self._how_row, self.firmness, self.threads):
            widget.setVisible(on)
        self.firmness.setText(_firmness(piece))

    def summary(self, piece: Piece) -> str:
        goal = piece.goal
        if goal.to == "nothing":
            return "none"
        other = next((p.name for p in self.bench.scene.pieces if p.id == goal.piece), "a piece that is gone")
        strength = "by a map" if piece.map_of("goal.strength") else show(goal.strength, "%")
        return f"{other if goal.to == 'another piece' else goal.to} · {strength}"

    def _draw_to(self) -> None:
        piece = self.bench.chosen
        if piece is not None:
            to, _, other = self.to.currentData().partition(":")
            self._set("change the goal", "goal", piece.goal.model_copy(update={"to": to, "piece": other}))


def _mass(piece: Piece) -> float:
    """Of an area, kg/m², or of a volume, kg/m³."""
    values = piece.made_of
    return values.density if isinstance(values, SolidValues | RigidValues) else values.mass


def _firmness(piece: Piece) -> str:
    """What a strength comes to: its stiffness, and how far it gives way under the piece's own weight."""
    filled, strength = not piece.of_skin, piece.goal.strength
    if piece.map_of("goal.strength") is not None:
        return "From place to place, by its map."
    if strength >= HELD:
        return "Holds exactly."
    firm = float(goal_stiffness(np.array([strength]), np.ones(1), filled)[0])
    if firm <= 0.0:
        return "Does not draw."
    load = 9.81 * abs(piece.made_of.weight) * _mass(piece)
    unit = f"{firm / 1000:,.3g} kN/m⁴" if filled else f"{firm:.3g} N/m³"
    return f"{unit}: gives way by {1000 * load / firm:.2g} mm under its own weight."
