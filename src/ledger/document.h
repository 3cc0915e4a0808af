/* What Mosaicum has written as JSON and reads again to compare it. */
#ifndef MOS_LEDGER_DOCUMENT_H
#define MOS_LEDGER_DOCUMENT_H

#include "base/ctx.h"
#include "base/map.h"

enum mos_document {
    MOS_DOCUMENT_NONE,    /* something else, as an image */
    MOS_DOCUMENT_LEDGER,  /* the record of a build */
    MOS_DOCUMENT_ACCEPTED /* the result of listen --acceptance --json */
};

/* What the file at `path` is, and what it says as name -> text in `out`: of a ledger everything
 * but spans and chunks ("inputs.kernel.sha256", "images.card.img.regions.root.offset"), of an
 * acceptance each check ("passes: 6.1.0").  A read that fails goes to ctx->error: what could not
 * be read is not said to be something else. */
enum mos_document mos_document_facts(struct mos_ctx *ctx, const char *path, struct mos_map *out);

#endif
