"""The demo: Gorse & Gannet, a two-person web studio on an island, its sites and their honest differences."""
