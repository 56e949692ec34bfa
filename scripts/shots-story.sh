# The keys of the pictures; sourced by shots.sh. The first Escape of a view ends the line
# that says what it is for, that on the board the story.
shown "what works where"
keys Escape; shown "the story is left"
# Some calls of the berth desk, so that the board has something to tell.
keys Escape g; sleep 0.4; keys Right g; sleep 0.4; keys Right g; sleep 0.4
keys Left Left Down g; sleep 0.4; keys Down g; sleep 0.4; keys Right g; sleep 0.4
# The yearly tide table over TLS.
keys Down Down Left Right; shown "tides-tls  https"
keys Enter; shown "the variable tideHost is not set"
keys Escape Enter; shown "ADDRESS"
keys g; shown "attempt 1"; shown "repair"
keys Enter; shown "make this change"; keys Enter; keys g; shown "self-signed, and not trusted"
keys T; shown "SHA-1 "; keys Escape T; shown "SHA-1 "; shot trust; keys p; shown "repair"
keys Enter; shown "compare the fingerprint"; keys Enter; keys g; shown "found no security header"
keys Enter; shown "make this change"; keys Enter; keys g; shown "larger than the receive limit"
shot path-stopped
keys s; shown "B out"; keys Escape s; shown "B out"; shot strip; keys p
keys Enter; shown "make this change"; keys Enter; keys g; shown "passed after"
shot path-passed
keys Up Up Up Up Up Up; sleep 0.3; shot path-security
keys r; shown "of it values"; keys Escape r; shown "of it values"; keys Tab; shown "rows of"; keys Right Enter Enter; sleep 0.2; shot reply
keys p "[" "="; shown "set aside"; keys Escape "="; shown "set aside"; sleep 0.3; shot compare
keys b Down Down Down d; shown "Alder lands salt"; keys Escape d; shown "Alder lands salt"
keys /; tm send-keys -l callSign; keys Enter; shown "learned"; shot draft
keys c; shown "learned"; keys Escape c; shown "learned"; shot contract
keys t; shown "exchanges"; keys Escape t; shown "exchanges"; keys Down Down; sleep 0.6; shot traffic
keys z; sleep 0.4; shot causes; keys z
keys b; shown "what works where"; shot board
keys o; shown "endpoints"; keys Escape o; shown "endpoints"; shot endpoints
keys Home +; shown "it has to trust"; keys Escape B; shown "it has to trust"
# One relay is kept by the workspace and stopped, another one gives each request a field.
keys +; shown "name of the relay"; keys Enter; shown "the workspace keeps it"; keys a; shown "where to"; keys C-u; tm send-keys -l "tides"; keys Enter; sleep 0.5
keys "*"; shown "how the relay answers"; tm send-keys -l "header field"; keys Enter; shown "Name: value"; tm send-keys -l "X-Quay: north"; keys Enter; shown "with X-Quay"
keys Up Up X; shown "kept; it does not listen"; sleep 0.3; shot relays
keys V; shown "tideHost"; keys Escape V; shown "tideHost"; shot environments
keys i; shown "no workspace holds them"; keys Escape i; shown "no workspace holds them"; keys Down; sleep 0.2; shot identities
keys C; shown "not run"; keys Escape C; shown "not run"; keys !; shown "median"; sleep 0.4; keys Down Down; sleep 0.3; shot musters
keys b; shown "what works where"; keys Up Up Up Up Up Up Up Up Up Up Up Up d; shown "length"; keys '~'; shown "by value"; keys Escape '~'; sleep 0.3
keys '!'; for _ in $(seq 100); do tm capture-pane -p | grep -q 'has ended' && break; sleep 0.1; done; sleep 0.3; shot sounding
