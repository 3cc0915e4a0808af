/* Swap areas: a header in the first page, nothing else (the kernel's include/linux/swap.h). */
#include "fs/fs.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <string.h>

enum { PAGE = 4096, MAGIC_AT = PAGE - 10, INFO_AT = 1024 };

static uint64_t smallest(uint32_t sector) {
    (void)sector;
    return 10 * PAGE;
}

static struct mos_volume_base *begin(struct mos_ctx *ctx, struct mos_io *io,
                                     const struct mos_volume_wish *wish) {
    struct mos_volume_base *v = mos_alloc(ctx->arena, sizeof *v);
    *v = (struct mos_volume_base){.driver = &mos_fs_swap, .ctx = ctx, .io = io, .wish = *wish};
    v->inventory = mos_inventory_new(ctx->arena, wish->date, false);
    return v;
}

static bool take_entry(void *self, const struct mos_entry *entry) {
    struct mos_volume_base *v = self;
    if (*entry->path)
        mos_inv_refuse(v->inventory, entry->path, v->fill, "cannot lie in a swap area");
    return true;
}

static struct mos_sink sink(struct mos_volume_base *volume) {
    return (struct mos_sink){volume, take_entry, mos_ignore_data, mos_ignore_end};
}

static bool finish(struct mos_volume_base *v, struct mos_volume_result *result) {
    uint8_t page[PAGE] = {0};
    size_t label = strlen(v->wish.label);
    mos_put_le32(page + INFO_AT, 1);
    mos_put_le32(page + INFO_AT + 4, (uint32_t)(v->wish.size / PAGE - 1)); /* its last page */
    memcpy(page + INFO_AT + 12, v->wish.uuid, 16);
    memcpy(page + INFO_AT + 28, v->wish.label, label < 16 ? label : 16);
    memcpy(page + MAGIC_AT, "SWAPSPACE2", 10);
    mos_volume_write(v, page, PAGE, 0);
    *result =
        (struct mos_volume_result){.fits = true,
                                   .block_size = PAGE,
                                   .structure = PAGE,
                                   .free = v->wish.size - PAGE,
                                   .spans = mos_vec_make(v->ctx->arena, sizeof(struct mos_span))};
    *(struct mos_span *)mos_vec_push(&result->spans) = (struct mos_span){0, PAGE, MOS_SPAN_DATA};
    *(struct mos_span *)mos_vec_push(&result->spans) =
        (struct mos_span){PAGE, v->wish.size - PAGE, MOS_SPAN_FREE};
    return v->errnum
               ? mos_fail(v->ctx->error, MOS_ERROR_SYSTEM, v->errnum, "Cannot write the image")
               : true;
}

static bool probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out) {
    uint8_t page[PAGE];
    char label[17] = "", id[37];
    if (io->size < PAGE || mos_io_read(io, page, PAGE, 0) ||
        memcmp(page + MAGIC_AT, "SWAPSPACE2", 10) != 0)
        return false;
    memcpy(label, page + INFO_AT + 28, 16);
    mos_uuid_text(page + INFO_AT + 12, id);
    *out = (struct mos_volume_info){.kind = "swap",
                                    .label = mos_strdup(arena, label),
                                    .id = mos_strdup(arena, id),
                                    .block_size = PAGE,
                                    .names = mos_vec_make(arena, sizeof(char *))};
    out->size = ((uint64_t)mos_le32(page + INFO_AT + 4) + 1) * PAGE;
    out->damaged = out->size > io->size;
    out->problem = "The swap area is larger than its region.";
    return true;
}

const struct mos_fs_driver mos_fs_swap = {.name = "swap",
                                          .family = "swap",
                                          .partition = "swap",
                                          .kernel = "swap",
                                          .symbol = "CONFIG_SWAP",
                                          .heeds = MOS_HEEDS_LABEL | MOS_HEEDS_ID,
                                          .smallest = smallest,
                                          .longest_label = 16,
                                          .units = {PAGE, PAGE},
                                          .begin = begin,
                                          .sink = sink,
                                          .finish = finish,
                                          .foresee = mos_fs_foresee_uuid,
                                          .probe = probe};
