update fleet set rev = rev + 1, resolver = $1
