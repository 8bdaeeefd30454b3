"""From text to values: YAML with places, quantities, units, durations, local times, addresses, tables."""
