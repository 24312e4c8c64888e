"""Long work: its states, its queue, the processes that do it, and the watch over them."""
