"""Keys as dense codes: counted, grouped, sorted, partitioned, normalized."""
