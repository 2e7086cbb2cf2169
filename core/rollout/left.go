package rollout

import "time"

// Left guesses how long a rollout still takes, soaking included, from what its hosts took so
// far: those of a wave work side by side, so each wave to come takes as long as the longest of
// those before. Waiting for quiet hours, for consent and for somebody who holds it is not in
// it. ok is false where nothing is known yet, where it waits for somebody, and where the hosts
// of the wave that are left take far longer than those before: then what those took says nothing
// of them, and idle is for how long none has ended. last is when a host ended last.
func Left(parts []Part, c Course, tallies []Tally, begun, last, now time.Time) (left, idle time.Duration, ok bool) {
	if c.Phase != Changing && c.Phase != Soaking || c.Opened == 0 {
		return 0, 0, false
	}
	stages := Stages(parts)
	soaks := make([]time.Duration, stages)
	hosts, done := make([]int, stages), make([]int, stages)
	for i := range parts {
		s := parts[i].Stage
		soaks[s] = max(soaks[s], parts[i].Soak)
		hosts[s] += parts[i].Hosts
		if i < len(tallies) {
			done[s] += parts[i].Hosts - tallies[i].Counts.Left()
		}
	}
	current := c.Opened - 1
	if current >= stages {
		return 0, 0, false
	}
	worked := now.Sub(begun) // in the waves so far, without the soaking between them
	for _, soak := range soaks[:current] {
		worked -= soak
	}
	inWave := max(now.Sub(c.Since), 0)
	if c.Phase == Soaking {
		worked -= inWave
	}
	if worked <= 0 || done[current] == 0 && current == 0 {
		return 0, 0, false
	}
	wave := worked / time.Duration(c.Opened) // a wave, on an average
	switch {
	case c.Phase == Soaking:
		left = max(soaks[current]-inWave, 0)
	default:
		n := done[current]
		if idle = stalled(n, inWave, now.Sub(last)); idle > 0 {
			return 0, idle, false
		}
		if n > 0 {
			left = inWave * time.Duration(hosts[current]-n) / time.Duration(n)
			wave = max(wave, inWave+left)
		} else {
			left = max(wave-inWave, 0)
		}
		if current+1 < stages {
			left += soaks[current]
		}
	}
	for s := current + 1; s < stages; s++ {
		left += wave
		if s+1 < stages {
			left += soaks[s]
		}
	}
	return left, 0, true
}

// stalled is for how long no host of a wave has ended, where that is far longer than it took from one to the next before;
// none where it is not. done of its hosts have ended since it began.
func stalled(done int, inWave, since time.Duration) time.Duration {
	if since = min(since, inWave); done > 0 && since > time.Minute+8*(inWave-since)/time.Duration(done) {
		return since
	}
	return 0
}
