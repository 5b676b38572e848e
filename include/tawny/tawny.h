/* tawny/tawny.h - all of the library. */
#ifndef TW_TAWNY_H
#define TW_TAWNY_H

#include "tawny/backoff.h"
#include "tawny/best.h"
#include "tawny/brightness.h"
#include "tawny/caption.h"
#include "tawny/catalogue.h"
#include "tawny/detector.h"
#include "tawny/error.h"
#include "tawny/frame.h"
#include "tawny/hours.h"
#include "tawny/interval.h"
#include "tawny/naming.h"
#include "tawny/port.h"
#include "tawny/port_linux.h"
#include "tawny/port_sim.h"
#include "tawny/rate.h"
#include "tawny/reel.h"
#include "tawny/ring.h"
#include "tawny/score.h"
#include "tawny/settings.h"
#include "tawny/sighting.h"
#include "tawny/split.h"
#include "tawny/station.h"
#include "tawny/status.h"
#include "tawny/timing.h"
#include "tawny/trace.h"
#include "tawny/tune.h"
#include "tawny/version.h"
#include "tawny/zones.h"

#endif
