/* What came of a board's acceptance, as listen --json tells it. */
#ifndef MOS_LEDGER_ACCEPTED_H
#define MOS_LEDGER_ACCEPTED_H

#include "base/ctx.h"
#include "base/map.h"

/* Each check of such a result at `path`: its name -> "passes: 6.1.0".  false: it is none. */
bool mos_accepted_facts(struct mos_ctx *ctx, const char *path, struct mos_map *out);

#endif
