#!/bin/sh
# A classifier, as small as one can be: what moved more of the picture is a fox, what moved less is
# a toad. Yours has a model of its own, and looks at the file.
#
#   [hook guess]
#   on = ended
#   run = /usr/local/bin/guess_by_size.sh
#   classifies = yes
#
# The event comes as JSON on standard input; the last line that is printed is the answer.
set -eu
peak=$(sed -n 's/.*"peak":\([0-9.]*\).*/\1/p')
awk -v peak="${peak:-0}" 'BEGIN {
  if (peak == 0) print "{}"
  else if (peak < 0.1) print "{\"drop\": true}"
  else if (peak < 3) print "{\"name\": \"Bufo bufo\", \"score\": 0.6}"
  else print "{\"name\": \"Vulpes vulpes\", \"score\": 0.6, \"star\": true}"
}'
