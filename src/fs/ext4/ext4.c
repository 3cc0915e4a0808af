/* ext4 volumes, written in one pass from front to back: the kernel's
 * Documentation/filesystems/ext4. */
#include "fs/ext4/edit_internal.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <assert.h>
#include <string.h>

static uint64_t smallest(uint32_t sector) {
    (void)sector;
    return 256 << 10;
}

/* Blocks of 4 KiB, but of 1 KiB where these would waste too much. */
static uint32_t choose_block_size(uint64_t size) {
    return size < (32 << 20) ? 1024 : 4096;
}

static uint32_t choose_journal(uint64_t size, uint32_t block_size) {
    static const struct {
        uint64_t below, bytes;
    } steps[] = {{8ull << 20, 0},
                 {128ull << 20, 4 << 20},
                 {1ull << 30, 16 << 20},
                 {4ull << 30, 32 << 20},
                 {UINT64_MAX, 64 << 20}};
    size_t i = 0;
    while (size >= steps[i].below)
        i++;
    return (uint32_t)(steps[i].bytes / block_size);
}

static void take_journal(struct ext4 *v) {
    v->journal = (struct mos_inv_node){.name = "journal",
                                       .type = MOS_ENTRY_FILE,
                                       .mode = 0600,
                                       .mtime = v->base.wish.date,
                                       .inode = EXT4_JOURNAL_INODE,
                                       .links = 1,
                                       .size = (uint64_t)v->journal_blocks * v->block_size};
    for (uint32_t logical = 0; logical < v->journal_blocks;) {
        uint32_t count;
        uint32_t first = ext4_take(v, v->journal_blocks - logical, &count);
        mos_inv_extend(v->base.inventory, &v->journal, (struct mos_extent){logical, count, first},
                       EXT4_LONGEST_EXTENT);
        logical += count;
    }
}

static struct mos_volume_base *begin(struct mos_ctx *ctx, struct mos_io *io,
                                     const struct mos_volume_wish *wish) {
    struct ext4 *v = mos_alloc(ctx->arena, sizeof *v);
    v->base = (struct mos_volume_base){.driver = &mos_fs_ext4, .ctx = ctx, .io = io, .wish = *wish};
    v->base.inventory = mos_inventory_new(ctx->arena, wish->date, false);
    v->block_size = wish->unit ? wish->unit : choose_block_size(wish->size);
    v->first_block = v->block_size == 1024;
    v->blocks = (uint32_t)mos_min(wish->size / v->block_size, UINT32_MAX);
    v->per_group = v->block_size * 8;
    v->groups = (uint32_t)mos_div_up(v->blocks - v->first_block, v->per_group);
    v->desc_blocks = (uint32_t)mos_div_up((uint64_t)v->groups * EXT4_DESC_SIZE, v->block_size);
    uint32_t last = v->blocks - ext4_group_start(v, v->groups - 1);
    if (v->groups > 1 && last < 1 + v->desc_blocks + 50) { /* too short to be of use */
        v->blocks -= last;
        v->groups--;
    }
    v->next = v->first_block;
    v->gaps = mos_vec_make(ctx->arena, sizeof(struct ext4_run));
    v->trees = mos_vec_make(ctx->arena, sizeof(struct ext4_tree));
    v->entry_path.arena = ctx->arena;
    v->csum_seed = mos_crc32c(~0u, wish->uuid, 16);
    v->pending = io ? mos_alloc(ctx->arena, EXT4_PENDING) : NULL;
    v->journal_blocks = wish->no_journal ? 0 : choose_journal(wish->size, v->block_size);
    take_journal(v);
    return &v->base;
}

static struct mos_volume_base *copy(struct mos_ctx *ctx, const struct mos_volume_base *of,
                                    const struct mos_volume_wish *wish) {
    struct ext4 *v = mos_alloc(ctx->arena, sizeof *v);
    assert(!of->io);
    *v = *(const struct ext4 *)of;
    v->base.ctx = ctx;
    v->base.wish = *wish;
    v->base.inventory = mos_inventory_copy(ctx->arena, of->inventory);
    v->csum_seed = mos_crc32c(~0u, wish->uuid, 16);
    v->gaps = mos_vec_copy(ctx->arena, &v->gaps);
    v->trees = mos_vec_copy(ctx->arena, &v->trees);
    v->entry_path = (struct mos_buf){.arena = ctx->arena};
    return &v->base;
}

/* Gives out the blocks of all bitmaps and inode tables. */
static void place_tables(struct ext4 *v, uint32_t inodes_per_group) {
    assert(inodes_per_group && inodes_per_group % 8 == 0 && inodes_per_group <= v->block_size * 8);
    uint32_t table = inodes_per_group * EXT4_INODE_SIZE / v->block_size;
    v->inodes_per_group = inodes_per_group;
    for (uint32_t g = 0; g < v->groups; g++)
        v->block_bitmaps[g] = ext4_take_row(v, 1);
    for (uint32_t g = 0; g < v->groups; g++)
        v->inode_bitmaps[g] = ext4_take_row(v, 1);
    for (uint32_t g = 0; g < v->groups; g++)
        v->inode_tables[g] = ext4_take_row(v, table);
}

static uint32_t per_group_for(const struct ext4 *v, uint64_t inodes) {
    assert(v->groups);
    uint32_t unit = v->block_size / EXT4_INODE_SIZE;
    unit = unit < 8 ? 8 : unit; /* whole blocks of the table, whole bytes of the bitmap */
    return (uint32_t)mos_round_up(mos_max(mos_div_up(inodes, v->groups), 16), unit);
}

static bool holds(const struct ext4 *v) {
    return v->next <= v->blocks &&
           (v->blocks - v->first_block - ext4_used(v)) * (uint64_t)v->block_size >=
               v->base.wish.spare;
}

/* As many inodes as a volume of its size usually has; just the needed ones where room is short. */
static bool place_bookkeeping(struct ext4 *v) {
    uint64_t needed = v->next_inode - 1;
    uint32_t most = v->block_size * 8, least = per_group_for(v, needed);
    uint32_t usual =
        per_group_for(v, v->base.wish.inodes ? mos_max(v->base.wish.inodes, needed)
                                             : mos_max(v->base.wish.size / EXT4_BYTES_PER_INODE,
                                                       needed + needed / 8 + 64));
    uint32_t **arrays[] = {&v->block_bitmaps, &v->inode_bitmaps, &v->inode_tables, &v->used_inodes,
                           &v->folders};
    for (size_t i = 0; i < sizeof arrays / sizeof *arrays; i++)
        *arrays[i] = mos_alloc_array(v->base.ctx->arena, v->groups, sizeof(uint32_t));
    uint64_t next = v->next;
    size_t gaps = v->gaps.count;
    place_tables(v, usual > most ? most : usual);
    if (!holds(v) && least <= most) {
        v->next = next;
        v->gaps.count = gaps;
        place_tables(v, least);
    }
    return least <= most;
}

static bool finish(struct mos_volume_base *base, struct mos_volume_result *result) {
    struct ext4 *v = (struct ext4 *)base;
    ext4_flush(v);
    uint64_t content = v->next - v->first_block - v->journal_blocks;
    ext4_write_folders(v);
    ext4_write_trees(v);
    ext4_write_attributes(v);
    ext4_flush(v);
    bool enough_inodes = place_bookkeeping(v);
    uint64_t total = v->blocks - v->first_block, used = ext4_used(v);
    uint64_t spare = mos_div_up(base->wish.spare, v->block_size);
    *result = (struct mos_volume_result){
        .fits = enough_inodes && holds(v),
        .block_size = v->block_size,
        .content = content * v->block_size,
        .structure = (used - content) * v->block_size,
        .free = total > used ? (total - used) * v->block_size : 0,
        .spare = base->wish.spare,
        .entries = base->inventory->count,
        .spans = mos_vec_make(base->ctx->arena, sizeof(struct mos_span)),
    };
    if (!result->fits) {
        uint64_t need = mos_max(used + spare, v->next - v->first_block);
        result->missing = mos_max(need > total ? need - total : 1, 1) * v->block_size;
        return true;
    }
    ext4_write_inodes(v); /* or counts them */
    if (base->io)
        ext4_write_bookkeeping(v);
    ext4_describe_spans(v, &result->spans);
    if (base->errnum)
        return mos_fail(base->ctx->error, MOS_ERROR_SYSTEM, base->errnum, "Cannot write the image");
    return true;
}

static const char *const options[] = {"data",
                                      "commit",
                                      "barrier",
                                      "nobarrier",
                                      "journal_checksum",
                                      "journal_async_commit",
                                      "errors",
                                      "discard",
                                      "nodiscard",
                                      "noload",
                                      "norecovery",
                                      "acl",
                                      "noacl",
                                      "user_xattr",
                                      "nouser_xattr",
                                      "delalloc",
                                      "nodelalloc",
                                      "resuid",
                                      "resgid",
                                      "sb",
                                      "quota",
                                      "noquota",
                                      "usrquota",
                                      "grpquota",
                                      "prjquota",
                                      "usrjquota",
                                      "grpjquota",
                                      "jqfmt",
                                      "stripe",
                                      "inode_readahead_blks",
                                      "init_itable",
                                      "noinit_itable",
                                      "auto_da_alloc",
                                      "noauto_da_alloc",
                                      "max_batch_time",
                                      "min_batch_time",
                                      "journal_ioprio",
                                      "journal_dev",
                                      "journal_path",
                                      "dioread_lock",
                                      "dioread_nolock",
                                      "block_validity",
                                      "noblock_validity",
                                      "dax",
                                      "debug",
                                      "minixdf",
                                      "bsddf",
                                      "grpid",
                                      "nogrpid",
                                      "bsdgroups",
                                      "sysvgroups",
                                      "orlov",
                                      "i_version",
                                      "abort",
                                      "nombcache",
                                      "max_dir_size_kb",
                                      "test_dummy_encryption",
                                      "inlinecrypt",
                                      "prefetch_block_bitmaps",
                                      NULL};

static const struct mos_fs_loader loaders[] = {
    {.dialect = "u-boot", .word = "ext4", .symbol = "CONFIG_FS_EXT4", .marks_kinds = true}, {NULL}};

const struct mos_fs_driver mos_fs_ext4 = {
    .name = "ext4",
    .family = "ext4",
    .partition = "linux",
    .kernel = "ext4",
    .symbol = "CONFIG_EXT4_FS",
    .options = options,
    .heeds =
        MOS_HEEDS_LABEL | MOS_HEEDS_ID | MOS_HEEDS_RESERVED | MOS_HEEDS_INODES | MOS_HEEDS_JOURNAL,
    .loaders = loaders,
    .smallest = smallest,
    .longest_label = 16,
    .units = {1024, 4096},
    .begin = begin,
    .copy = copy,
    .sink = ext4_sink,
    .finish = finish,
    .foresee = mos_fs_foresee_uuid,
    .probe = ext4_probe,
    .stream = ext4_stream,
    .edit = ext4_edit,
};
