"""What the sheet shows while no piece is chosen: what is true of the whole scene."""

from functools import partial

from PySide6.QtWidgets import QCheckBox, QFrame

from rubberquince.document.tracks import at_frame, get_at
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import Field, Value
from rubberquince.ui.parts import column, label
from rubberquince.ui.sheet.bead import Bead

VALUES = (
    Value("Gravity", "run.gravity", "m/s²", -10.0, 20.0,
          "How fast things fall faster: 9.81 on earth, 1.6 on the moon, 0 in space; below 0 they rise", usual=9.81),
    Value("Leans by", "run.lean", "°", -90.0, 90.0,
          "How far gravity leans from straight down: 90° pulls to the side", usual=0.0),
    Value("Leans toward", "run.toward", "°", -180.0, 180.0,
          "The side that it leans to: 0° right, 90° back, 180° left, −90° front", usual=0.0),
    Value("Ground friction", "run.ground_friction", "", 0.0, 1.5,
          "How well the ground holds what slides on it: 0 like wet ice, 1 like rubber", usual=0.5))


class Surroundings(QFrame):
    """Gravity and the ground of the scene."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self._bench = bench
        self.setObjectName("section")
        self.fields = {value.path: Field(value, partial(self._change, value)) for value in VALUES}
        self.beads = {value.path: Bead(bench, value.path, value.name) for value in VALUES}
        self.ground = QCheckBox("The ground stops things")
        self.ground.clicked.connect(lambda on: bench.set_value("change the ground", "run.ground", on))
        *gravity, friction = self.fields.values()
        self.setLayout(column(label("The whole scene", "head"), *gravity, self.ground, friction,
                              margins=(11, 8, 9, 9), gap=5))
        for path, field in self.fields.items():
            field.layout().addWidget(self.beads[path])      # type: ignore[union-attr]
            field.refused.connect(bench.say)
            field.swept.connect(lambda begins: bench.document.begin_gesture() if begins
                                else bench.document.end_gesture())

    def refresh(self) -> None:
        scene = at_frame(self._bench.scene, self._bench.frame)
        self.ground.setChecked(scene.run.ground)
        for path, field in self.fields.items():
            field.show_value(float(get_at(scene, path)))
            self.beads[path].refresh(scene)
        self.fields["run.toward"].setVisible(scene.run.lean != 0.0 or scene.track_of("run.lean") is not None)
        self.fields["run.ground_friction"].setEnabled(scene.run.ground)

    def _change(self, value: Value, number: float) -> bool:
        return self._bench.set_value(f"change {value.name.lower()}", value.path, number, None, value.name, value.unit)
