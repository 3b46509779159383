"""Saltmere Ferries: a made-up island ferry line, its servers and its appliances."""
