"""A brief and the places where its gateways could be: each designed, checked, loaded and broken, and which is best."""
