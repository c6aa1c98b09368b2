"""What everything else uses: durations, instants, distributions of durations, random generators, source locations."""
