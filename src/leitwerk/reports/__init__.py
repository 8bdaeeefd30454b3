"""What people look at: pictures, and the page of one device."""
