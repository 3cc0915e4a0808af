/* Between fills.c and those who put fills together. */
#ifndef MOS_PLAN_FILLS_H
#define MOS_PLAN_FILLS_H

#include "plan/kept.h"

/* Streams what a fill brings that is not made from what lies in its volume already. */
bool mos_plan_stream_brought(struct mos_plan *plan, const struct mos_fill *fill, bool counting,
                             const struct mos_sink *sink);
/* The patterns of a fill. */
struct mos_texts fills_texts(const struct mos_plan *plan, const struct mos_list *list);
/* Does an index know all that there is to know of files which come to lie below `prefix`? */
bool fills_index_tells(const char *prefix);

#endif
