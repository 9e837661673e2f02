"""Numbers with units, as artists type them."""

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from rubberquince.errors import ValueTextError
from rubberquince.units import parse, show, tidy


@pytest.mark.parametrize("text, unit, value", [
    ("18 cm", "cm", 0.18), ("18", "cm", 0.18), ("18cm", "mm", 0.18), ("7 in", "cm", 0.1778), ('2"', "cm", 0.0508),
    ("1/4", "m", 0.25), ("1/3 m", "cm", 1 / 3), ("1,5 m", "cm", 1.5), ("-3 cm", "m", -0.03), ("4.2 kPa", "kPa", 4200),
    ("4.2", "kPa", 4200), ("1.05 kg/l", "kg/l", 1050), ("1050 kg/m³", "kg/l", 1050), ("80 %", "%", 0.8),
    ("90°", "°", 90), ("350 ms", "s", 0.35), ("0.4", "", 0.4), ("1e-3 m", "mm", 1e-3)])
def test_what_is_typed_is_understood(text, unit, value):
    assert parse(text, unit) == pytest.approx(value, rel=1e-12)


@pytest.mark.parametrize("text", ["abc", "", "cm", "1 parsnip", "3 s", "1/0", "1e400", "--2", "nan", "1 2", "9" * 400])
def test_nonsense_gets_one_sentence(text):
    with pytest.raises(ValueTextError) as caught:
        parse(text, "cm")
    sentence = str(caught.value)
    assert sentence.endswith(".") and "Traceback" not in sentence and len(sentence) < 140


@pytest.mark.parametrize("value, unit, text", [(0.18, "cm", "18 cm"), (4200, "kPa", "4.2 kPa"), (0.8, "%", "80 %"),
                                               (0, "mm", "0 mm"), (45, "°", "45°"), (1050, "kg/l", "1.05 kg/l")])
def test_values_are_shown_short(value, unit, text):
    assert show(value, unit) == text


@example(0.0625, "kPa")
@example(1e-4, "kg/l")
@given(st.floats(1e-4, 1e4), st.sampled_from(["mm", "cm", "m", "in", "kPa", "s", "%", "kg/l", ""]))
def test_what_is_shown_reads_back(value, unit):
    assert parse(show(value, unit), unit) == pytest.approx(value, rel=6e-3, abs=6e-7 * parse("1", unit))


@given(st.floats(1e-4, 1e9))
def test_a_tidy_value_is_never_shown_as_nothing(value):
    assert parse(tidy(value, "Pa"), "Pa") == pytest.approx(value, rel=6e-3)
