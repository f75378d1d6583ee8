"""What several rules find: each kind of mistake with the words and the edits of its findings, by topic."""
