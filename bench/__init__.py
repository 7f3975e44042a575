"""Speed and memory, measured: each figure beside a plain library doing the same in the same run."""
