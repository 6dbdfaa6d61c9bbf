"""Plugins that can be put into a session: those installed on this computer, and the house's own."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from ..core.cards.families import kind, squeezed
from ..core.session.plugins import Family, PluginRef, PluginUse, Setting
from ..core.watching.blocks import Seen, see
from ..core.watching.records import inside
from ..house.catalogue import PROCESSORS, VERSION
from ..store import recording_file
from .catalogue import Installed, Scanned

# So many notes an instrument is taken to play at once until somebody says otherwise.
VOICES = 8
# Of plugins of one name the first of these standards is taken, where none is asked for.
ORDER = ("clap", "vst3", "lv2", "ladspa", "house")


def as_use(plugin: Installed) -> PluginUse:
    """An installed plugin as it starts, without an id of its own."""
    family = kind(plugin.features, plugin.name).family
    made = PluginRef(plugin.standard, plugin.identifier, plugin.name, plugin.vendor, plugin.version)
    return PluginUse("", made, family=family, voices=VOICES if family == "instrument" else 0)


def house_uses() -> list[PluginUse]:
    """The house's own processors as they start."""
    found = []
    for each in PROCESSORS.values():
        family: Family = each.family  # type: ignore[assignment]
        plugin = PluginRef("house", each.identifier, each.name, "Nimble Load", VERSION)
        voices = VOICES if each.is_instrument else 0
        values = (("voices", float(voices)),) if each.is_instrument else ()
        found.append(PluginUse("", plugin, Setting(values), family, 2, voices))
    return found


def choices(scanned: Iterable[Scanned]) -> list[PluginUse]:
    """All plugins that can be put in, by name; those of one name in the order of their standards."""
    found = [as_use(plugin) for file in scanned for plugin in file.plugins] + house_uses()
    return sorted(found, key=lambda use: (use.label.lower(), ORDER.index(use.plugin.standard), use.plugin.identifier))


def held_in(files: Iterable[str], names: Mapping[str, str], scanned: Sequence[Scanned]) -> dict[str, PluginUse]:
    """The plugin that each of these files or bundles holds, or that is this one of several in it (see
    `core.watching.records.inside`): the only one of a file that is installed here, else the one that is called as
    `names` or the file says."""
    held: dict[str, list[PluginUse]] = {}
    for file in scanned:
        for plugin in file.plugins:
            for path in plugin.known_by:
                held.setdefault(path, []).append(as_use(plugin))
                held[inside(path, plugin.identifier)] = [as_use(plugin)]
    find, found = Lookup(choices(scanned)), {}
    for path in files:
        own = held.get(path, [])
        use = own[0] if len(own) == 1 else None if own else find(names.get(path, Path(path).stem), "")
        if use is not None:
            found[path] = use
    return found


def recorded(files: Iterable[Path], scanned: Sequence[Scanned]) -> tuple[list[Seen], dict[str, PluginUse]]:
    """What was seen in recordings of a host, and the plugin that each file in them holds. RecordingFileError if one
    cannot be read."""
    seen, plugins = [], dict[str, PluginUse]()
    for file in files:
        recording, names = recording_file.read(file)
        seen.append(see(recording))
        plugins |= held_in(recording.files, names, scanned)
    return seen, plugins


def matching(found: Iterable[PluginUse], words: Iterable[str]) -> list[PluginUse]:
    """Those whose name, maker, identifier, standard or family holds every word."""
    wanted = [word.lower() for word in words]

    def told(use: PluginUse) -> str:
        plugin = use.plugin
        return f"{plugin.name} {plugin.vendor} {plugin.identifier} {plugin.standard} {use.family}".lower()

    return [use for use in found if all(word in told(use) for word in wanted)]


class Lookup:
    """Finds a plugin by identifier or name (blanks and capitals do not count), in a standard or in any ("")."""

    def __init__(self, found: Sequence[PluginUse]) -> None:
        self._found = found
        self._by_identifier: dict[tuple[str, str], PluginUse] = {}
        self._by_name: dict[tuple[str, str], PluginUse] = {}
        for use in sorted(found, key=lambda use: ORDER.index(use.plugin.standard)):
            for standard in (use.plugin.standard, ""):
                self._by_identifier.setdefault((standard, use.plugin.identifier), use)
                self._by_name.setdefault((standard, squeezed(use.label)), use)

    def __call__(self, name: str, standard: str = "") -> PluginUse | None:
        """The plugin, or None if there is none."""
        return self._by_identifier.get((standard, name)) or self._by_name.get((standard, squeezed(name)))

    def near(self, name: str) -> list[str]:
        """What plugins are called that have all words of a name in theirs or their maker's; each name once."""
        return list(dict.fromkeys(use.label for use in matching(self._found, name.split())))
