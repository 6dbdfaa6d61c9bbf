"""One block on its cores: the schedule, the ways of hosts, and every bound."""
