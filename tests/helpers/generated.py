"""Exchange files as many programs might write them: any order and nesting, odd quotes and remarks, by chance."""

from __future__ import annotations

import random
import re

from tests.helpers import exchange as x
from tests.helpers.stems import audio

TAGS = ("ClapPlugin", "Vst3Plugin", "Vst2Plugin", "Device")
FOREIGN = (
    "<!-- a remark with <tags> & more -->", "<?note kept?>", '<Foreign k="v"><Deep j="w &amp; x"/></Foreign>',
    '<o:own xmlns:o="urn:other" o:k="1">text</o:own>',
)  # fmt: skip


class Writer:
    """Makes one project; `ids` are the tracks that can play."""

    def __init__(self, rng: random.Random) -> None:
        self.rng, self.ids, self._count = rng, [f"t{k}" for k in range(rng.randint(1, 5))], 0

    def project(self) -> str:
        rng = self.rng
        groups = [f"g{k}" for k in range(rng.randint(0, 2))]
        inside: dict[str, list[str]] = {each: [] for each in ("", *groups)}
        for own in self.ids:
            parent = rng.choice(("", *groups))
            inside[parent].append(self._track(own, rng.choice(("", *(f"c{g}" for g in groups))), rng.random() < 0.4))
        parts = list(inside[""])
        for own in groups:
            channel = x.channel(f"c{own}", "submix", devices=self._devices(own), sends=self._sends())
            parts.append(x.track(own, f"Group {own}", channel + "".join(inside[own]), "tracks"))
        parts.append(x.track("r", "Echo", x.channel("cr", "effect", devices=self._devices("r"))))
        parts.append(x.main_track())
        rng.shuffle(parts)
        lanes = [self._lane(own) for own in self.ids for _ in range(rng.randint(1, 2))]
        if rng.random() < 0.5:
            lanes.append('<Markers><Marker time="1" name="B"/></Markers>')
        rng.shuffle(lanes)
        return self._mangled(x.project("".join(parts), "".join(lanes), unit=rng.choice(("beats", "seconds"))))

    def _new(self) -> str:
        self._count += 1
        return f"n{self._count}"

    def _track(self, own: str, leads: str, is_muted: bool) -> str:
        extra = self.rng.choice(("", f'<Volume value="0.5" unit="linear" id="v{own}"/>'))
        extra += f'<Mute value="{str(is_muted).lower()}" id="m{own}"/>' if self.rng.random() < 0.5 else ""
        inner = x.channel(f"c{own}", destination=leads, devices=self._devices(own), sends=self._sends(), extra=extra)
        return x.track(own, f"Track {own} & more".replace("&", "&amp;"), inner, self.rng.choice(("audio", "notes")))

    def _devices(self, own: str) -> str:
        rng, found = self.rng, []
        for k in range(rng.randint(0, 3)):
            name = f"p{rng.randint(0, 3)}"
            if rng.random() < 0.5:
                found.append(x.plugin(rng.choice(TAGS), name, name.upper(), extra=rng.choice(("", "<Parameters/>"))))
            else:
                on = rng.choice(("", f'<Enabled value="{rng.choice(("true", "false"))}" id="on{own}{k}"/>'))
                found.append(f'<ClapPlugin deviceID="{name}" deviceRole="audioFX">{on}</ClapPlugin>')
        return "".join(found)

    def _sends(self) -> str:
        if self.rng.random() < 0.5:
            return ""
        return x.send("cr", self.rng.choice(("pre", "post")), 0.25, self.rng.choice(("true", "false")))

    def _lane(self, own: str) -> str:
        rng, unit = self.rng, self.rng.choice((' timeUnit="seconds"', ' timeUnit="beats"', ""))
        clips = "".join(self._clip() for _ in range(rng.randint(1, 3)))
        remark = rng.choice(("", *FOREIGN))
        return rng.choice((
            f'<Lanes track="{own}"{unit}><Clips>{remark}{clips}</Clips></Lanes>',
            f'<Lanes track="{own}"{unit} id="{self._new()}"><Lanes><Clips>{clips}</Clips>{remark}</Lanes></Lanes>',
            f'<Clips track="{own}"{unit}>{clips}</Clips>',
            f'<Lanes track="{own}"{unit}>{audio(seconds=rng.uniform(1, 3))}{remark}<Clips>{clips}</Clips></Lanes>',
            f'<Lanes{unit}><Lanes track="{own}"><Clips>{clips}</Clips></Lanes>{remark}</Lanes>',
        ))  # fmt: skip

    def _clip(self) -> str:
        rng = self.rng
        start, length = round(rng.uniform(0, 6), 3), round(rng.uniform(0.5, 4), 3)
        more = {"enable": "false"} if rng.random() < 0.15 else {}
        if rng.random() < 0.3:
            more |= {"loopStart": "0", "loopEnd": "1", "playStart": "0.25"}
        notes = "".join(f'<Note time="{k / 2}" duration="0.4" key="{60 + k}"/>' for k in range(4))
        inside = rng.choice((
            audio(), f"<Clips>{x.clip(0, 1, audio())}{x.clip(1.5, 1, audio())}</Clips>", f"<Notes>{notes}</Notes>",
            f"<Lanes>{audio()}<Notes>{notes}</Notes></Lanes>", audio() + rng.choice(FOREIGN),
        ))  # fmt: skip
        return x.clip(start, length, inside, **more)

    def _mangled(self, words: str) -> str:
        """The same, written by somebody else: quotes, spaces and line breaks in tags, remarks between them."""
        rng = self.rng

        def other(found: re.Match[str]) -> str:
            tag = found[0]
            if rng.random() < 0.2:
                tag = re.sub(r'="([^"\']*)"', r"='\1'", tag)
            if rng.random() < 0.2:
                tag = tag.replace(" ", "\n    ", 1)
            if rng.random() < 0.1:
                tag = tag.removesuffix(">").removesuffix("/") + (" />" if tag.endswith("/>") else " >")
            return tag + (rng.choice(("\n", "\r\n", "\t", "<!-- here -->")) if rng.random() < 0.1 else "")

        head, rest = words[: words.index("?>") + 2], words[words.index("?>") + 2 :]
        return head + re.sub(r"<(?:Project|Clips?|Lanes|Track|Channel|Devices|ClapPlugin)\b[^>]*>", other, rest)
