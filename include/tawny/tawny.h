/* tawny/tawny.h - all of the library. */
#ifndef TW_TAWNY_H
#define TW_TAWNY_H

#include "tawny/catalogue.h"
#include "tawny/detector.h"
#include "tawny/draw.h"
#include "tawny/error.h"
#include "tawny/events.h"
#include "tawny/frame.h"
#include "tawny/outward.h"
#include "tawny/port.h"
#include "tawny/port_linux.h"
#include "tawny/port_sim.h"
#include "tawny/rehearse.h"
#include "tawny/ring.h"
#include "tawny/settings.h"
#include "tawny/sighting.h"
#include "tawny/station.h"
#include "tawny/version.h"
#include "tawny/zones.h"

#endif
