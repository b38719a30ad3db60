"""Finding + schema + plan -> advice: changes to try, each with its SQL, its saving, its price and what to check."""
