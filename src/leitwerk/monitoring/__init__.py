"""Following a device over time: polling, alarms and rules, outputs, messages."""
