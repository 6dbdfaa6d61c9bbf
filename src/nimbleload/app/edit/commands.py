"""What can be done on the Session page, as a table: the words of each command, its key, and the menu it stands in."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import NamedTuple

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QWidget

STANDARD = QKeySequence.StandardKey
MENUS = ("Add", "Tracks", "Plugins", "Both")


class Command(NamedTuple):
    """One command. Those of the tree alone have keys that mean something else in a line of text."""

    name: str
    text: str
    key: QKeySequence.StandardKey | str
    menu: str
    in_tree: bool = False


COMMANDS = (
    Command("track", "Add a &track", "Ctrl+T", "Add"),
    Command("bus", "Add a &bus", "Ctrl+B", "Add"),
    Command("return", "Add a &return", "Ctrl+R", "Add"),
    Command("folder", "Add a &folder of audio…", "Ctrl+Shift+F", "Add"),
    Command("file", "Add &MIDI, a table or a session…", "Ctrl+Shift+O", "Add"),
    Command("rename", "Re&name", "F2", "Tracks", True),
    Command("duplicate", "&Duplicate", "Ctrl+D", "Tracks"),
    Command("times", "Duplicate so man&y times…", "Ctrl+Shift+D", "Tracks"),
    Command("up", "Move &up", "Alt+Up", "Tracks"),
    Command("down", "Move do&wn", "Alt+Down", "Tracks"),
    Command("send", "&Send to…", "Ctrl+Shift+E", "Tracks"),
    Command("unsend", "Take its sends &away", "", "Tracks"),
    Command("clip", "&Clip…", "Ctrl+L", "Tracks"),
    Command("clear", "C&lear its clips", "Ctrl+Shift+L", "Tracks"),
    Command("next clip", "Choose the ne&xt clip", "Ctrl+Right", "Tracks", True),
    Command("clip before", "Ch&oose the clip before", "Ctrl+Left", "Tracks", True),
    Command("next as well", "The next clip as &well", "Ctrl+Shift+Right", "Tracks", True),
    Command("section", "Section that begins &here…", "Ctrl+Shift+M", "Tracks"),
    Command("unsection", "Take the s&ection away", "Ctrl+Shift+U", "Tracks"),
    Command("timing", "Te&mpo, bars and length…", "Ctrl+Shift+T", "Tracks"),
    Command("pared", "A p&ared-down copy…", "Ctrl+Shift+A", "Tracks"),
    Command("how many", "&How many more fit…", "Ctrl+H", "Tracks"),
    Command("bypass", "&Bypass, or not", "Space", "Plugins", True),
    Command("left", "Move to the &left", "Alt+Left", "Plugins", True),
    Command("right", "Move to the &right", "Alt+Right", "Plugins", True),
    Command("replace", "&Put another one in its place", "Ctrl+Shift+R", "Plugins", True),
    Command("card", "Its cost &card", "Ctrl+I", "Plugins", True),
    Command("window", "Its own &window", "Ctrl+Return", "Plugins", True),
    Command("keep", "Keep on the s&helf…", "Ctrl+Shift+J", "Plugins", True),
    Command("shelf", "&From the shelf…", "Ctrl+J", "Plugins", True),
    Command("copy", "&Copy", STANDARD.Copy, "Both", True),
    Command("cut", "Cu&t", STANDARD.Cut, "Both", True),
    Command("paste", "&Paste", STANDARD.Paste, "Both", True),
    Command("remove", "&Remove", STANDARD.Delete, "Both", True),
)


def make_actions(page: QWidget, tree: QWidget, calls: Mapping[str, Callable[[], object]]) -> dict[str, QAction]:
    """An action for each command, by its name; each works while the page, or the tree, has the keyboard."""
    made = {}
    for command in COMMANDS:
        action = made[command.name] = QAction(command.text, page)
        if command.key:
            action.setShortcut(QKeySequence(command.key))
        action.setShortcutContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        action.triggered.connect(lambda _=False, call=calls[command.name]: call())
        (tree if command.in_tree else page).addAction(action)
    return made
