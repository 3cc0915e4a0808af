/* Lantern: a loader that exists in tests only.  It reads one file of plain lines, moves and expands
 * nothing, and takes lines of 120 characters. */
#ifndef LANTERN_H
#define LANTERN_H

#include "boot/dialect.h"

enum { LANTERN_LINE = 120, LANTERN_HEAD = 8 };
#define LANTERN_SCRIPT "lantern.txt"
#define LANTERN_MAGIC "LNTN"

/* stored.c */
extern const struct mos_stored_form lantern_stored;
/* start.c */
extern const struct sim_loader lantern_simulated;

#endif
