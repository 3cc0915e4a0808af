/* Trees in RAM, for whoever looks at one. */
#include "rehearse/sim.h"

#include "base/bytes.h"

struct mos_dt *sim_tree(const struct sim *s, uint64_t at) {
    enum { MOST_TREE = 4 << 20 };
    struct mos_error error;
    struct mos_ctx c = mos_ctx_quiet(s->ctx, &error);
    uint8_t head[8];
    sim_ram_read(s, at, head, sizeof head);
    uint32_t length = mos_be32(head) == MOS_DT_MAGIC ? mos_be32(head + MOS_DT_TOTAL) : 0;
    uint8_t *copy = length ? sim_ram_copy(s, at, length, MOST_TREE) : NULL;
    return copy ? mos_dt_read_blob(&c, "tree in RAM", copy, length) : NULL;
}
