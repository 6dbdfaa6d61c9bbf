"""What is told of what a computer holds, in words."""

from __future__ import annotations

from nimbleload.core.computer.ceiling import Ceiling, Held
from nimbleload.core.told import ceiling as told

TRIAL = (Held(0.5, 100, 0, 0.6, True),)


class TestCeilings:
    def made(self, buffer=256, held=0.8, least=0.78, most=0.85, threads=2, **more):
        return Ceiling(buffer, 48000, threads, 2.0, held, least, most, trials=TRIAL, **more)

    def test_what_is_held_is_told_with_what_it_may_be(self):
        assert told.ceiling_words(self.made()) == "256 samples, 2 cores: 80 % is held (78 % to 85 %)."
        assert told.ceiling_words(self.made(64, 0.95, 0.95, 0.95, 1)) == "64 samples, 1 core: 95 % is held."
        assert told.ceiling_words(self.made(held=0.3, least=0.0)).endswith("30 % is held (at most 85 %).")
        assert "not even 10 % is held." in told.ceiling_words(self.made(held=0.0, least=0.0, most=0.2))

    def test_and_what_stands_in_the_way(self):
        said = told.ceiling_words(self.made(slowed=0.42, slower=1.55, longest=2.4e-3, lost=1))
        assert "In 42 % of the blocks the same work took 1.6 times as long as at best" in said
        assert "held a core up for 2.40 ms." in said and "In 1 second that was for longer than a block" in said
        # What is hardly there is not told.
        assert told.ceiling_words(self.made(slowed=0.009, slower=1.5, longest=0.2e-3)).endswith("85 %).")

    def test_several_are_told_together(self):
        most = self.made(512, slowed=0.5, slower=1.6, longest=9.5e-3)
        found = [self.made(slowed=0.22, slower=1.5), most, self.made(64)]
        said = told.ceilings_words(found)
        assert "each of 2 cores a block is late in one second of 10" in said
        assert "In 22 to 50 % of the blocks the same work took 1.5 to 1.6 times as long" in said
        assert "for 9.50 ms" in said and "Real time" not in said
        refused = Ceiling(256, 48000, 1, 2.0, 0.8, 0.8, 0.8, trials=(Held(0.5, 100, 0, 0.6, False),))
        said = told.ceilings_words([refused])
        assert "each of 1 core" in said and "Real time was refused" in said

    def test_a_trial_is_told(self):
        assert told.trial_words(Held(0.5, 100, 3, 1.2, True)) == "50 %: 3 of 100 blocks late"
        assert "50 %: none late; the latest block ended at 60 % of its deadline" in told.trial_words(TRIAL[0])
