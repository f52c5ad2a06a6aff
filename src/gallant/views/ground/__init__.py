"""How anything is shown: tables, figures, pages, words, colours, and where it goes."""
