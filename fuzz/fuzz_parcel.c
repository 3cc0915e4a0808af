/* Parcels: read, every hash and every signature checked; loaders that are packed again. */
#include "harness.h"

#include "boot/parcel.h"
#include "loaders/u-boot/lock.h"

static void ignore(void *self, const void *bytes, size_t length) {
    (void)self;
    for (size_t i = 0; i < length; i += 4096)
        if (((const volatile uint8_t *)bytes)[i] == 1)
            continue;
}

static bool add_note(void *self, struct mos_dt *dt) {
    (void)self;
    mos_dt_set_text(dt, dt->root, "note", "locked");
    return true;
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    const char *problem, *names, *why;
    static const char *const nodes[] = {"/", "/images/kernel-kernel", "/configurations/main"};
    mos_parcel_covered(data, size, nodes, 3, 0, ignore, NULL);
    mos_parcel_is(data, size);
    struct mos_buf locked = {.arena = ctx->arena};
    mos_lock_loader(ctx, data, size, add_note, NULL, &locked, &problem);
    struct mos_parcel *p = mos_parcel_read(ctx, data, size, &problem);
    if (!p)
        return;
    for (size_t i = 0; i < p->parts.count; i++)
        mos_parcel_check_part(ctx->arena, mos_vec_at(&p->parts, i), &names);
    for (size_t i = 0; i < p->choices.count; i++) /* its own tree stands in for the keys */
        mos_parcel_check_choice(ctx->arena, p, mos_vec_at(&p->choices, i), p->dt, &why);
    mos_parcel_choice(p, NULL);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
