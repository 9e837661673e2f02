"""What the sheet shows while no piece is chosen: what is true of the whole scene."""

from functools import partial

from PySide6.QtWidgets import QCheckBox, QFrame

from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import Field, Value
from rubberquince.ui.parts import column, label

VALUES = (
    Value("Gravity", "run.gravity", "m/s²", -10.0, 20.0,
          "How fast things fall faster: 9.81 on earth, 1.6 on the moon, 0 in space; below 0 they rise", usual=9.81),
    Value("Ground friction", "run.ground_friction", "", 0.0, 1.5,
          "How well the ground holds what slides on it: 0 like wet ice, 1 like rubber", usual=0.5))


class Surroundings(QFrame):
    """Gravity and the ground of the scene."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self._bench = bench
        self.setObjectName("section")
        self.fields = [Field(value, partial(self._change, value)) for value in VALUES]
        self.ground = QCheckBox("The ground stops things")
        self.ground.clicked.connect(lambda on: bench.set_value("change the ground", "run.ground", on))
        self.setLayout(column(label("The whole scene", "head"), self.fields[0], self.ground, self.fields[1],
                              margins=(11, 8, 9, 9), gap=5))
        for field in self.fields:
            field.refused.connect(bench.say)
            field.swept.connect(lambda begins: bench.document.begin_gesture() if begins
                                else bench.document.end_gesture())

    def refresh(self) -> None:
        run = self._bench.scene.run
        self.ground.setChecked(run.ground)
        self.fields[0].show_value(run.gravity)
        self.fields[1].show_value(run.ground_friction)
        self.fields[1].setEnabled(run.ground)

    def _change(self, value: Value, number: float) -> bool:
        return self._bench.set_value(f"change {value.name.lower()}", value.path, number, None, value.name, value.unit)
