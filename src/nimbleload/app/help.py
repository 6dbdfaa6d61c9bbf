"""F1: what the page shows and which keys it knows, in a page of text."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QTextBrowser, QVBoxLayout, QWidget

from .theme import theme

TEXTS = {
    "Machine": """
<h3>Machine</h3>
<p>Is it the computer? Each <b>finding</b> says what is seen, why that matters for audio blocks, and what to do: a command to copy, for now or for good. Nothing is ever
run or changed for you. <b>Matters</b> can make blocks late by itself; <b>worth knowing</b> may, in some sessions. What <b>cannot be seen here</b> is not called fine.</p>
<p><b>Look again</b> after you have changed something. What other programs do is watched for ten seconds.</p>
<p><b>What this computer holds</b>: work of known size on all cores, in real time, against real deadlines, raised and lowered until blocks are late. The bar is the highest load
at which none was, for as long as it was held. Past it this computer drops out even if every plugin keeps to its figure.</p>
""",
    "Watch": """
<h3>Watch</h3>
<p>What does a host really do while it plays? The kernel tells when each of its threads takes and leaves a core, and now and then where in the code it is. Nothing is
changed in the host, and it needs no rights beyond your own.</p>
<p><b>Bars</b>: the blocks of the last ten seconds, each from its first start to its last end, as a share of the block's duration. A block that was not through when it was
due is <b>late</b>: that is a crackle.</p>
<p><b>The fullest block seen</b>: a lane for each thread. Where it had a core it is filled, in the colour of the plugin that was met there; a red line is where it had to give
way to another program.</p>
<p><b>The table</b>: who takes how much of one core in the engine's threads. Each look stands for a piece of CPU time; how many fall on a plugin is chance, and
<b>95 of 100 times</b> says between which figures the truth lies. Time inside common libraries belongs to the plugin that called them. <b>In the worst blocks</b> is the same within
the fullest twentieth.</p>
<p><b>Hold this as before</b>, change something in the host, wait ten seconds: <b>Difference</b> says what has changed, and <i>(chance)</i> where it may be none.</p>
<p><b>Look closely</b> looks ten times as often. What watching takes from the host is said below the table.</p>
<p>Where the kernel refuses (<tt>kernel.perf_event_paranoid</tt> above 2) the sentence says how to allow it.</p>
""",
    "Session": """
<h3>Session</h3>
<p>What the session is made of, and everything that can be changed of it. Each change is one step that <b>Ctrl+Z</b> takes back, and the load follows at once. A file that the
session was opened from is never changed.</p>
<p><b>The tree</b>: buses hold what feeds them. A row is a track: its plugins as boxes in their order, hatched where they are bypassed; what it feeds and sends to; and when in the
piece it sounds, hatched where notes play. A line between boxes is the fader.</p>
<p><b>By mouse</b>: click boxes, with Ctrl several; drag them within and between chains, with Ctrl held to copy; drag tracks onto a bus; draw along a lane for a clip, with Shift held
to clear. Plugins are dragged from the list at the right, or put in by Enter behind the chosen one.</p>
<p><b>By keys</b>: <b>Ctrl+T</b>, <b>Ctrl+B</b>, <b>Ctrl+R</b> add a track, a bus, a return · <b>F2</b> rename · <b>Ctrl+D</b> duplicate, a bus with all that feeds it ·
<b>Ctrl+Shift+D</b> so many times · <b>Alt+Up</b>, <b>Alt+Down</b> order · <b>Left</b>, <b>Right</b> choose a plugin · <b>Space</b> bypass it · <b>Alt+Left</b>,
<b>Alt+Right</b> move it · <b>Del</b> takes out what is chosen · <b>Ctrl+L</b> clip · <b>Ctrl+Shift+E</b> send · <b>Ctrl+I</b> its cost card. The menu of a row has all of them.</p>
<p><b>Copy and paste</b> carry plugins and tracks as text, also into another window.</p>
<p><b>How many more fit</b> (<b>Ctrl+H</b>): copies of what is chosen are tried, one count after the other, with the same load that Balance shows, at every buffer size.</p>
<p><b>Add</b>: a folder of audio files (a track a file, folders as buses; a file sounds where it is louder than −60 dBFS), a MIDI file, a table, another session. What was understood,
and what will not come along, is shown before anything is added.</p>
""",
    "Balance": """
<h3>Balance</h3>
<p>Does the work of one block fit into the time of one block? The <b>sentence</b> on top says so for the chosen moment;
the rest shows why.</p>
<p><b>Load</b> is the time that one block's work takes on all cores, as a share of the <b>deadline</b>: the duration of the
block, buffer size divided by sample rate. Past 100 % playback crackles. The <b>limit</b> is the load you want to stay under.</p>
<p><b>Buffer</b>: every size with its load at this moment, and the time from input to output: the device's
buffers, and what all tracks wait for each other; while a track is armed, the time until whoever is recorded hears himself, and whether that is too late
(<b>Computer</b> says how soon it must be). The thin mark is what one block in a hundred reaches.</p>
<p><b>Tracks by cost</b>: each track with its plugins (width: cost; colour: family; filled: live, outlined: frozen, hatched:
off), what it takes of one core, and when in the piece it sounds. Plugins may cost while nothing sounds.</p>
<p><b>One block</b>: a lane for each core, every track in its place. A track runs on one core, its plugins one after the
other; a bus waits for its tracks. The longest chain is outlined: no number of cores can make the block shorter than that.
The <b>bound</b> is the lowest load that any spreading over the cores could reach. <b>Typical</b>, <b>bad</b> (one in a hundred) and <b>worst</b>
are blocks drawn from how the plugins work in bursts.</p>
<p><b>The plan</b>, while no track is chosen: its decisions as steps, each of which you can take back. <b>Suggest</b> looks for the plan that gives up
least and keeps every moment under the limit. Pinned tracks (<b>P</b>) stay as they are.</p>
<p><b>Load through the piece</b>: click or drag to choose the moment. Triangles mark the worst moments. The hatched band above the load is what one block in a
hundred reaches; lines at the borders are blocks in which something wakes up. Draw with <b>Shift</b> held to choose a stretch: tracks then show what
they cost in it, on average. Escape lets it go.</p>
<p><b>Prices</b> are minutes you will lose: rendering, coming back to a frozen track, a bus to set up, a sound to judge. <b>Decide › How settled the chosen tracks are</b> says
how likely you come back to a track: done, normal, or in work. A lighter setting costs once for all plugins of its make, the more the further its sound is from the full one.</p>
<p><b>Share</b>: tracks that end in the same plugins, with equal sends, can have them once, on a bus that carries the sends. Whether that sounds the same has
been measured; tracks that are panned, or whose faders ride, are kept apart unless it does. <b>F</b> lists all that the session gives away. <b>B</b> is the list of what to put back before the render.</p>
<p><b>Keys</b>: <b>[</b> and <b>]</b> buffer size · <b>,</b> and <b>.</b> worst moments · <b>1</b> to <b>9</b> decisions for
the chosen tracks · <b>P</b> pin them · <b>Ctrl+P</b> suggest a plan · <b>Ctrl+Shift+P</b> compare three · hold <b>C</b> to see it without the plan · <b>Ctrl+Z</b> undo · <b>Ctrl+K</b> find a command · <b>Ctrl+1</b>, <b>2</b>, <b>4</b> to <b>7</b> the places.</p>
""",
    "Measure": """
<h3>Measure</h3>
<p>Each plugin of the session runs by itself in a process of its own, on one core, at eight buffer sizes: sounding, and
silent after its tail has died. The card beside the table says what that means for the chosen plugin. The same input is run several times; the least time of each block is the plugin's own, what
is above it is the computer's noise. If a plugin crashes, hangs or floods its error output, the table says so and the run
goes on.</p>
<p>Each result is kept at once. What is known is not measured again. Plugins with the same setting share one measurement.</p>
<p><b>Squares</b>: one for each buffer size from 32 to 4096, filled when it is known.</p>
<p><b>Try the settings</b> changes single settings of the chosen plugin, one at a time, and ranks them by what they save.
Choose some and <b>keep them as a variant</b>: another setting that is measured like the rest and that a plan can use.</p>
<p><b>Keep beside</b> leaves a card where it is while you choose another. <b>Figures from elsewhere</b> takes readings of a
meter, or lets a measured plugin stand in for one that is not installed. Both are marked wherever they count. <b>Computer › Plugins installed
here</b> searches what this computer has.</p>
""",
    "Carry out": """
<h3>Carry out</h3>
<p>What the plan freezes or bounces is rendered here: each track's own audio or notes through its plugins up to the place of the cut, in blocks of the chosen size, with its tail, several at once,
each in a process of its own. What comes late is moved back to its place. The original is never changed.</p>
<p><b>Proof</b>: each track is rendered again at another block size. <b>The same</b>: what differs is below −120 dBFS. <b>The same but for its own randomness</b>: two renders at one size
differ, too. <b>Different at another block size</b>: the plugins sound different there; compare with your host's render.</p>
<p>What cannot be rendered truthfully says why before: buses, stretched clips, audio of another rate, automated plugins, controller curves.</p>
<p><b>Write the changed session</b>: a copy of the exchange file with the rendered audio in place, clips and plugins switched off; every byte that did not change is the same. What the file
cannot say is listed to do by hand. Rendering again leaves what is there and made of the same.</p>
""",
    "Prove": """
<h3>Prove</h3>
<p>A rehearsal loads every plugin of the session, with the plan, and plays the chosen moment on real threads against real
deadlines: pinned to cores, in real time and with locked memory where the system allows it. Tracks that sound are fed with
a test signal, instruments with a chord.</p>
<p><b>Bars</b>: each block against its deadline (the solid line). <b>Table</b>: what was predicted for each track and what
it took, the largest difference first, with the reason as far as the figures tell.</p>
<p><b>Take the difference into the prediction</b> uses the time that tracks took beside their plugins from now on; undo
takes it back.</p>
""",
}


class Help(QDialog):
    """The help of one page."""

    def __init__(self, page: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Help: {page}")
        self.resize(theme.px(560), theme.px(470))
        text = QTextBrowser()
        text.setHtml(TEXTS[page])
        text.setAccessibleName(f"Help for {page}")
        QVBoxLayout(self).addWidget(text)
