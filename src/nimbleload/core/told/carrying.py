"""What was rendered and proven, in words."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from ..units import about, all_of, as_sentence, duration, listed

# Softer than this a sound has no loudness; so little is no difference in loudness.
NO_LUFS, SAME_LU = -70.0, 0.1

# Where a job stands of which a file lies there that would come out otherwise now.
AGAIN = "to render again"
VERDICTS = {
    "same": "the same",
    "rounded": "the same but for rounding",
    "random": "the same but for its own randomness",
    "different": "different at another block size",
}


def takes_words(seconds: float, known: bool) -> str:
    """How long something takes: "3 min"; where some plugins are not measured, no figure."""
    return duration(seconds) if known else "not known"


def megabytes(size: int) -> str:
    """How long a file is: "23 MB"; empty where that is not known."""
    return f"{size / 1e6:.{0 if size >= 1e7 else 1}f} MB" if size else ""


def left_words(seconds: float | None, paused: bool) -> str:
    """How long it goes on, as a sentence."""
    if paused:
        return "It stands still."
    return f"{as_sentence(about(seconds) + ' left')}" if seconds is not None else "Finding out how long it takes."


def todo_words(seconds: float | None, renders: bool) -> str:
    """How long what is to be rendered, or only proven, takes, as a sentence; empty where that is not known."""
    what = "Rendering and proving" if renders else "Proving that sharing sounds the same"
    return f"{what} takes {about(seconds)}." if seconds else ""


def level(db: float) -> str:
    """A level of the full scale: "−142 dBFS"; "nothing" where there is none."""
    return "nothing" if db <= -199.5 else f"{db:.0f} dBFS".replace("-", "−")


def moment(seconds: float) -> str:
    """A place in the piece, to the tenth: "1:23.4"."""
    return f"{int(seconds) // 60}:{seconds % 60:04.1f}"


def proof_words(verdict: str, peak_db: float, at: float, other_buffer: int, buffer: int = 0) -> str:
    """What rendering it again at another block size than `buffer` differs by (0: not known which)."""
    if verdict == "cut":
        return f"the cut is heard: what is left and this differ from the track by {level(peak_db)}, at {moment(at)}"
    if verdict == "same" and peak_db <= -199.5:
        sizes = f"{min(buffer, other_buffer)} and {max(buffer, other_buffer)}" if buffer else f"{other_buffer}"
        return f"the same, to the sample, in blocks of {sizes}"
    where = f" at {moment(at)}" if verdict not in ("same", "rounded") else ""
    return f"{VERDICTS[verdict]}: blocks of {other_buffer} differ by {level(peak_db)} at most{where}"


def levels(peak_db: float, lufs: float) -> str:
    """How high its peak is, and how loud it is as a whole: "−6 dBFS, −21.3 LUFS"."""
    return level(peak_db) + (f", {lufs:.1f} LUFS".replace("-", "−") if lufs > NO_LUFS else "")


def loudness_words(lufs: float, again: float) -> str:
    """How far what never sounds the same twice is as loud each time; empty where nothing can be said."""
    if min(lufs, again) <= NO_LUFS:
        return ""
    off = abs(lufs - again)
    return f"it differs in loudness by {off:.1f} LU" if off >= SAME_LU else "it is as loud each time"


def older_words(made: datetime) -> str:
    """What lies there, made at that time, but of something else."""
    return f"what lies there is of {made:%Y-%m-%d %H:%M}, of other settings, audio or plugins"


def warnings(dies: bool, wrong: int, asked: str = "", one_sided: Sequence[str] = ()) -> list[str]:
    """What to know of a rendered file beside its proof; the `one_sided` plugins heard one side alone."""
    said = []
    if one_sided:
        said.append(f"{all_of(one_sided)} heard the left side alone: hosts give it that, or both together")
    if asked:
        said.append("it is louder than full scale, where 24 bits would clip it: written as WAV with 32, floating")
    if not dies:
        said.append("its tail had not died after 15 s and was cut there")
    if wrong:
        several = "a sample was no number and is" if wrong == 1 else f"{wrong} samples were no number and are"
        said.append(f"{several} silent")
    return said


def sharing_words(verdict: str, peak_db: float, at: float, without: Sequence[str] = ()) -> str:
    """What the tracks of a shared bus sound like together, against each with its own plugin; `without` are the names of
    what hears them by sends that leave before it."""
    lost = f"; but {listed(without)} will hear its tracks without it, by their sends" if without else ""
    if verdict in ("same", "rounded"):
        exact = ", to the sample" if peak_db <= -199.5 else f": {level(peak_db)} at most"
        return f"sharing sounds {VERDICTS[verdict]}{exact}{lost}"
    where = f"{level(peak_db)} at most, at {moment(at)}"
    if verdict == "random":
        return f"what is shared never sounds the same twice, and sharing changes no more than that: {where}{lost}"
    return f"sharing changes the sound: {where}{lost}"


def mix_words(verdict: str, peak_db: float, at: float, alike: bool = False) -> str:
    """What the mix after a plan is against the one before; `alike` if both took alike what hosts do in their own ways.
    """
    ways = "; pans or panned sends, which hosts take in their own ways, were taken alike in both" if alike else ""
    if verdict in ("same", "rounded"):
        exact = ", to the sample" if peak_db <= -199.5 else f": {level(peak_db)} at most differ"
        return f"the mix sounds {VERDICTS[verdict]}{exact}{ways}"
    if verdict == "random":
        return (
            f"the mix never sounds the same twice, and differs no more than by that: {level(peak_db)} at most, at "
            f"{moment(at)}{ways}"
        )
    return f"the mix sounds different: {level(peak_db)} at most differ, at {moment(at)}{ways}"


def sides_words(before: tuple[float, float], after: tuple[float, float]) -> str:
    """How high and how loud two mixes are (dBFS, LUFS): to be added to what they differ by."""
    return f"; before it is at {levels(*before)}, after at {levels(*after)}"


def mix_headline(verdict: str) -> str:
    """The same in a headline."""
    if verdict in ("same", "rounded"):
        return "The mix sounds the same as before."
    if verdict == "random":
        return "The mix never sounds the same twice, and differs no more than by that."
    return "The mix sounds different: what differs can be listened to."


def together_words(verdict: str, peak_db: float, at: float) -> str:
    """What all stems together are against the mix."""
    if verdict in ("same", "rounded"):
        exact = ", to the sample" if peak_db <= -199.5 else f" but for rounding: {level(peak_db)} at most"
        return f"together they are what the main output gets{exact}"
    return f"together they differ from what the main output gets: {level(peak_db)} at most, at {moment(at)}"


def headline(done: int, total: int, ended: int, refused: int, is_written: bool = False, stems: int = 0) -> str:
    """How far a plan is carried out; `is_written` says that there is something to write in any case, `stems` how many
    of all, refused ones included, are stems."""
    one = "stem" if stems and stems == total + refused else "file" if stems else "track"
    if not total and is_written:
        return "Nothing in the plan has to be rendered: the changed session can be written at once."
    if not total and not refused:
        return "Nothing in the plan has to be rendered."
    if not total:
        what = "None of it" if refused > 1 else "It"
        return f"{what} can be rendered here: {refused} {one}{'s' if refused > 1 else ''}, each with its reason."
    if done == total:
        who = "The" if total == 1 else "Both" if total == 2 else f"All {total}"
        return f"{who} {one}{'s are' if total > 1 else ' is'} rendered."
    ending = f"; {ended} ended early" if ended else ""
    if not done:
        return f"{total} {f'{one}s are' if total > 1 else f'{one} is'} to be rendered{ending}."
    return f"{done} of {total} {one}s {'is' if done == 1 else 'are'} rendered{ending}."
