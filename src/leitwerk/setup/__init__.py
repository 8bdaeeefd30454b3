"""The setup file: everything that one device is to be told, and everything expected of it."""
