#include "computer/spans.h"

#include "ledger/ledger.h"

#include <stdlib.h>
#include <string.h>

bool is_as_built(const char *folder, const char *image, const uint8_t *storage) {
    struct mos_ledger_image_last last;
    struct core core;
    bool same = true;
    size_t size, matter = 0;
    core_start(&core);
    uint8_t *bytes = (uint8_t *)read_whole(path_in(folder, "%s", image), &size);
    CU_ASSERT_FATAL(bytes &&
                    mos_ledger_image_last(&core.ctx, path_in(folder, "ledger.json"), image, &last));
    for (size_t i = 0; i < last.spans.count; i++) {
        const struct mos_ledger_span_last *x = mos_vec_at(&last.spans, i);
        if (x->kind == 'a')
            continue;
        matter += (size_t)x->length;
        same &= memcmp(storage + x->offset, bytes + x->offset, (size_t)x->length) == 0;
    }
    CU_ASSERT(matter > 0);
    free(bytes);
    core_end(&core);
    return same;
}
