"""The expression language: grammar → parser → tree → checker → evaluator · printer · sentence."""
