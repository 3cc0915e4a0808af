/* Trees in RAM, for whoever looks at one. */
#include "rehearse/sim.h"

#include "base/bytes.h"

struct mos_ctx sim_quiet(const struct sim *s, struct mos_error *error) {
    struct mos_ctx c = *s->ctx;
    *error = (struct mos_error){0};
    c.arena = s->arena;
    c.error = error;
    c.findings = mos_findings_make(s->arena);
    return c;
}

struct mos_dt *sim_tree(const struct sim *s, uint64_t at) {
    enum { MOST_TREE = 4 << 20 };
    struct mos_error error;
    struct mos_ctx c = sim_quiet(s, &error);
    uint8_t head[8];
    sim_ram_read(s, at, head, sizeof head);
    uint32_t length = mos_be32(head) == 0xd00dfeed ? mos_be32(head + 4) : 0;
    uint8_t *copy = length ? sim_ram_copy(s, at, length, MOST_TREE) : NULL;
    return copy ? mos_dt_read_blob(&c, "tree in RAM", copy, length) : NULL;
}
