#!/bin/sh
# Seals what a pipeline built, and publishes it as a draft. Exit codes are herald's: 1 refused, 2 wrong usage, 3 not signed in.
#   KEY_FILE=keys/bench.pem HERALD_URL=… HERALD_TOKEN=mht_… ./publish.sh build/hive-scale.elf boards/comb-s1.toml [LABEL=VALUE …]
set -eu
image=$1 board=$2
shift 2
sealed=$(mktemp -d)
trap 'rm -rf "$sealed"' EXIT

# Whatever can be known without the service is checked first; reasons go to standard error.
herald image look "$image" --board-file "$board" > "$sealed/look.txt" || { code=$?; cat "$sealed/look.txt"; exit $code; }
herald release seal "$image" --key "$KEY_FILE" --board-file "$board" --out "$sealed/release.suit"

# The same build, sealed by the same key, has the same bytes: to publish it twice does no harm.
labels=""
for one in "$@"; do labels="$labels --label $one"; done
# shellcheck disable=SC2086  # one word for each label
herald release publish "$sealed/release.suit" --draft $labels --json
