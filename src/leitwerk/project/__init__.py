"""Files on disk: setups, the library of datasheets and limit sets, inventory, passwords, locks."""
