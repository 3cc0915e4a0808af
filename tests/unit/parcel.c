/* Parcels: what is written reads back, sums hold, and no signed bit can change unseen. */
#include "support.h"

#include "base/bytes.h"
#include "boot/parcel.h"
#include "loaders/u-boot/legacy.h"
#include "loaders/u-boot/lock.h"
#include "loaders/u-boot/menu.h"

#include <stdlib.h>
#include <string.h>

enum { KERNEL = 20000, TREE = 900, POSITIONS = 1000 };

static uint8_t kernel[KERNEL], tree[TREE];

static struct mos_dt *keys_for(struct core *c, const char *pem, size_t length) {
    const char *problem;
    struct mos_dt *dt = mos_dt_new(c->ctx.arena, "keys"), *again;
    struct mos_buf blob = {.arena = c->ctx.arena};
    CU_ASSERT_TRUE_FATAL(mos_parcel_add_key(&c->ctx, dt, "mast", pem, length, &problem));
    mos_dt_write_blob(&c->ctx, dt, false, &blob);
    again = mos_dt_read_blob(&c->ctx, "keys", blob.data, blob.length);
    CU_ASSERT_PTR_NOT_NULL_FATAL(again);
    return again;
}

static void make(struct core *c, struct mos_signer *signer, struct mos_buf *out) {
    uint64_t seed = 7;
    for (size_t i = 0; i < KERNEL; i++)
        kernel[i] = (uint8_t)random_next(&seed);
    for (size_t i = 0; i < TREE; i++)
        tree[i] = (uint8_t)random_next(&seed);
    const struct mos_parcel_item items[] = {{"kernel-linux", "kernel", "kernel", "linux", "arm64",
                                             "none", 0x40200000, 0x40200000, true, true, kernel,
                                             KERNEL, "sha256"},
                                            {"tree-main", "tree", "flat_dt", NULL, "arm64", "none",
                                             0, 0, false, false, tree, TREE, "crc32"}};
    struct mos_parcel_wish wish = {.about = "boot files of curlew",
                                   .date = 1767225600,
                                   .items = items,
                                   .item_count = 2,
                                   .choices =
                                       mos_vec_make(c->ctx.arena, sizeof(struct mos_parcel_choice)),
                                   .signer = signer};
    static const char *const names[] = {"main", "spare"};
    for (size_t i = 0; i < 2; i++) {
        struct mos_parcel_choice *x = mos_vec_push(&wish.choices);
        *x = (struct mos_parcel_choice){.name = names[i],
                                        .kernel = "kernel-linux",
                                        .trees = mos_vec_make(c->ctx.arena, sizeof(char *)),
                                        .loadables = mos_vec_make(c->ctx.arena, sizeof(char *))};
        mos_vec_push_pointer(&x->trees, "tree-main");
    }
    CU_ASSERT_TRUE_FATAL(mos_parcel_write(&c->ctx, &wish, out));
}

static void put_number(struct core *c, struct mos_dt *dt, struct mos_dt_node *n, const char *name,
                       uint64_t value, bool wide) {
    uint8_t *cells = mos_alloc(c->ctx.arena, 8);
    mos_put_be32(cells, (uint32_t)(wide ? value >> 32 : value));
    mos_put_be32(cells + 4, (uint32_t)value);
    mos_dt_set(dt, n, name, cells, wide ? 8 : 4);
}

/* The same parcel with its payloads behind the tree: as others pack them.  `lie` is added to what
 * is said of the kernel's size. */
static void put_data_outside(struct core *c, const struct mos_buf *in, bool by_position, bool wide,
                             int lie, struct mos_buf *out) {
    enum { FRONT = 8192 }; /* where the payloads begin, when they are named by position */
    struct mos_dt *dt = mos_dt_read_blob(&c->ctx, "parcel", in->data, in->length);
    struct mos_buf tail = {.arena = c->ctx.arena};
    CU_ASSERT_PTR_NOT_NULL_FATAL(dt);
    struct mos_dt_node *images = mos_dt_find(dt, "/images");
    for (struct mos_dt_node *n = images->first_child; n; n = n->next) {
        const struct mos_dt_property *data = mos_dt_property(n, "data");
        bool is_kernel = strcmp(n->name, "kernel-linux") == 0;
        put_number(c, dt, n, "data-size", data->length + (size_t)(is_kernel ? lie : 0), wide);
        put_number(c, dt, n, by_position ? "data-position" : "data-offset",
                   tail.length + (by_position ? FRONT : 0), wide);
        mos_buf_add(&tail, data->data, data->length);
        mos_buf_align(&tail, 4);
        mos_dt_remove_property(n, "data");
    }
    mos_dt_write_blob(&c->ctx, dt, false, out);
    if (by_position)
        mos_buf_zeros(out, FRONT - out->length);
    else
        mos_buf_align(out, 4);
    mos_buf_add(out, tail.data, tail.length);
}

static void data_may_lie_outside(void) {
    for (unsigned kind = 0; kind < 4; kind++) {
        struct core c;
        core_start(&c);
        struct mos_buf in = {.arena = c.ctx.arena}, out = in;
        const char *problem, *names;
        make(&c, NULL, &in);
        put_data_outside(&c, &in, kind & 1, kind & 2, 0, &out);
        struct mos_parcel *p = mos_parcel_read(&c.ctx, out.data, out.length, &problem);
        CU_ASSERT_PTR_NOT_NULL_FATAL(p);
        const struct mos_parcel_part *k = mos_parcel_part(p, "kernel-linux"),
                                     *t = mos_parcel_part(p, "tree-main");
        CU_ASSERT(k->data && k->length == KERNEL && memcmp(k->data, kernel, KERNEL) == 0);
        CU_ASSERT(t->data && t->length == TREE && memcmp(t->data, tree, TREE) == 0);
        CU_ASSERT(mos_parcel_check_part(c.ctx.arena, k, &names) && strcmp(names, "sha256+ ") == 0);
        CU_ASSERT(mos_parcel_check_part(c.ctx.arena, t, &names) && strcmp(names, "crc32+ ") == 0);
        /* said to lie behind the end */
        for (uint32_t lie = 1; lie < 5; lie++) {
            struct mos_dt *dt = mos_dt_read_blob(&c.ctx, "parcel", out.data, out.length);
            struct mos_dt_node *n = mos_dt_find(dt, "/images/kernel-linux");
            struct mos_buf lied = {.arena = c.ctx.arena};
            put_number(&c, dt, n, kind & 1 ? "data-position" : "data-offset",
                       lie == 1   ? out.length + 1
                       : lie == 2 ? out.length + KERNEL
                       : lie == 3 ? UINT32_MAX
                                  : UINT64_MAX,
                       kind & 2);
            mos_dt_write_blob(&c.ctx, dt, false, &lied);
            size_t tree_length = lied.length;
            mos_buf_add(&lied, (const char *)out.data + tree_length, out.length - tree_length);
            p = mos_parcel_read(&c.ctx, lied.data, lied.length, &problem);
            CU_ASSERT_PTR_NOT_NULL_FATAL(p);
            CU_ASSERT_PTR_NULL(mos_parcel_part(p, "kernel-linux")->data);
        }
        p = mos_parcel_read(&c.ctx, out.data, out.length, &problem);
        k = mos_parcel_part(p, "kernel-linux");
        /* cut off, or said to be longer than the file: there is no such payload */
        size_t behind_kernel =
            out.length - (size_t)((const uint8_t *)k->data + KERNEL - (const uint8_t *)out.data);
        for (int lie = -1; lie <= (int)behind_kernel + 1;
             lie += lie < 2 ? 1 : (int)behind_kernel - 2) {
            struct mos_buf lied = {.arena = c.ctx.arena};
            put_data_outside(&c, &in, kind & 1, kind & 2, lie, &lied);
            p = mos_parcel_read(&c.ctx, lied.data, lied.length, &problem);
            k = p ? mos_parcel_part(p, "kernel-linux") : NULL;
            CU_ASSERT_PTR_NOT_NULL_FATAL(k);
            CU_ASSERT_EQUAL(k->data != NULL, lie <= (int)behind_kernel);
            CU_ASSERT_EQUAL(k->data && mos_parcel_check_part(c.ctx.arena, k, &names), lie == 0);
        }
        core_end(&c);
    }
}

static char *demo_key(size_t *length) {
    return read_whole(path_in(MOSAICUM_SOURCE, "demo/saltmarsh/keys/mast.pem"), length);
}

/* Would a loader with these keys take the choice, with all its parts? */
static bool accepted(struct core *c, const uint8_t *bytes, size_t length,
                     const struct mos_dt *keys) {
    const char *problem, *why, *names;
    struct mos_parcel *p = mos_parcel_read(&c->ctx, bytes, length, &problem);
    const struct mos_parcel_choice *x = p ? mos_parcel_choice(p, "main") : NULL;
    if (!x || mos_parcel_check_choice(c->ctx.arena, p, x, keys, &why) != MOS_PARCEL_TRUSTED)
        return false;
    const struct mos_parcel_part *k = mos_parcel_part(p, x->kernel);
    const struct mos_parcel_part *t =
        x->trees.count ? mos_parcel_part(p, mos_vec_pointer(&x->trees, 0)) : NULL;
    return k && t && mos_parcel_check_part(c->ctx.arena, k, &names) && *names &&
           mos_parcel_check_part(c->ctx.arena, t, &names) && *names;
}

static void parcels_go_round(void) {
    struct core c;
    size_t length;
    const char *problem, *names, *why;
    core_start(&c);
    struct mos_buf out = {.arena = c.ctx.arena};
    char *pem = demo_key(&length);
    make(&c, NULL, &out);
    CU_ASSERT_TRUE(mos_parcel_is(out.data, out.length));
    struct mos_parcel *p = mos_parcel_read(&c.ctx, out.data, out.length, &problem);
    CU_ASSERT_PTR_NOT_NULL_FATAL(p);
    CU_ASSERT_EQUAL(p->parts.count, 2);
    CU_ASSERT_EQUAL(p->choices.count, 2);
    CU_ASSERT_STRING_EQUAL(p->usual, "main");
    const struct mos_parcel_part *k = mos_parcel_part(p, "kernel-linux");
    CU_ASSERT_PTR_NOT_NULL_FATAL(k);
    CU_ASSERT_TRUE(k->length == KERNEL && memcmp(k->data, kernel, KERNEL) == 0 &&
                   k->load == 0x40200000);
    CU_ASSERT_TRUE(mos_parcel_check_part(c.ctx.arena, k, &names));
    CU_ASSERT_STRING_EQUAL(names, "sha256+ ");
    /* unsigned: taken where nobody asks, refused where a key is required */
    const struct mos_parcel_choice *x = mos_parcel_choice(p, NULL);
    CU_ASSERT_EQUAL(mos_parcel_check_choice(c.ctx.arena, p, x, NULL, &why), MOS_PARCEL_NOT_ASKED);
    CU_ASSERT_EQUAL(mos_parcel_check_choice(c.ctx.arena, p, x, keys_for(&c, pem, length), &why),
                    MOS_PARCEL_REFUSED);
    for (size_t n = 0; n < out.length; n += 97) /* cut anywhere: refused or at least not whole */
        CU_ASSERT_PTR_NULL(mos_parcel_read(&c.ctx, out.data, n, &problem));
    free(pem);
    core_end(&c);
}

/* Is offset inside a property of that name, anywhere in the structure? */
static void flip_all(struct core *c, struct mos_buf *out, const struct mos_dt *keys,
                     const uint8_t *from, size_t length, size_t *flipped) {
    uint8_t *bytes = (uint8_t *)out->data, *at = bytes + (from - bytes);
    for (size_t bit = 0; bit < 8 * length; bit++) {
        struct core inner;
        core_start(&inner);
        at[bit / 8] ^= (uint8_t)(1 << bit % 8);
        CU_ASSERT_FALSE(accepted(&inner, bytes, out->length, keys));
        at[bit / 8] ^= (uint8_t)(1 << bit % 8);
        core_end(&inner);
        ++*flipped;
    }
    (void)c;
}

static void no_signed_bit_changes_unseen(void) {
    struct core c;
    size_t length, flipped = 0;
    const char *problem;
    uint64_t seed = 11;
    core_start(&c);
    struct mos_buf out = {.arena = c.ctx.arena}, twice = {.arena = c.ctx.arena};
    char *pem = demo_key(&length);
    struct mos_signer *signer = mos_signer_from_pem(&c.ctx, "mast", pem, length, &problem);
    CU_ASSERT_PTR_NOT_NULL_FATAL(signer);
    make(&c, signer, &out);
    make(&c, signer, &twice);
    CU_ASSERT_TRUE(out.length == twice.length && memcmp(out.data, twice.data, out.length) == 0);
    struct mos_dt *keys = keys_for(&c, pem, length);
    CU_ASSERT_TRUE(accepted(&c, (uint8_t *)out.data, out.length, keys));
    struct mos_parcel *p = mos_parcel_read(&c.ctx, out.data, out.length, &problem);
    const struct mos_dt_node *main_choice = mos_parcel_choice(p, "main")->node;
    const struct mos_dt_node *sign = mos_dt_child(main_choice, "signature-1");
    const struct mos_parcel_part *k = mos_parcel_part(p, "kernel-linux");
    const struct mos_parcel_part *t = mos_parcel_part(p, "tree-main");
    const struct mos_dt_node *nodes[] = {
        sign,    main_choice, mos_dt_child(k->node, "hash-1"), mos_dt_child(t->node, "hash-1"),
        k->node, t->node};
    for (size_t i = 0; i < sizeof nodes / sizeof *nodes; i++)
        for (const struct mos_dt_property *x = nodes[i]->properties; x; x = x->next) {
            /* no loader takes a meaning from these: a list for people, and a word that is 0 */
            bool idle = i == 0 && strcmp(x->name, "sign-images") == 0;
            size_t skip = i == 0 && strcmp(x->name, "hashed-strings") == 0 ? 4 : 0;
            if (strcmp(x->name, "data") != 0 && !idle)
                flip_all(&c, &out, keys, x->data + skip, x->length - skip, &flipped);
        }
    for (size_t i = 0; i < POSITIONS; i++) {
        const struct mos_parcel_part *part = i % 2 ? k : t;
        size_t at = i < 2   ? 0
                    : i < 4 ? part->length - 1
                            : (size_t)random_below(&seed, part->length);
        flip_all(&c, &out, keys, part->data + at, 1, &flipped);
    }
    CU_ASSERT(flipped > 8 * POSITIONS + 4000);
    CU_ASSERT_TRUE(accepted(&c, (uint8_t *)out.data, out.length, keys));
    mos_signer_free(signer);
    free(pem);
    core_end(&c);
}

static void menus_go_round(void) {
    struct core c;
    core_start(&c);
    static const char text[] = "# made by hand\nTimeout 30\ndefault spare\nlabel main\n  kernel "
                               "/Image\n  append root=/dev/x  ro \n\nLABEL spare\n  LINUX "
                               "/old#conf\n  devicetree /a.dtb\n  menu label the old one\n";
    struct mos_menu m = mos_menu_read(c.ctx.arena, text, sizeof text - 1, NULL), again;
    struct mos_buf out = {.arena = c.ctx.arena};
    CU_ASSERT_EQUAL_FATAL(m.entries.count, 2);
    mos_menu_write(&m, "again", &out);
    again = mos_menu_read(c.ctx.arena, mos_buf_string(&out), out.length, NULL);
    for (size_t i = 0; i < 2; i++) {
        const struct mos_menu *x = i ? &again : &m;
        const struct mos_menu_entry *e = mos_menu_find(x, "spare");
        CU_ASSERT_PTR_NOT_NULL_FATAL(e);
        CU_ASSERT_STRING_EQUAL(x->usual, "spare");
        CU_ASSERT_EQUAL(x->timeout, 30);
        CU_ASSERT_STRING_EQUAL(e->kernel, "/old#conf");
        CU_ASSERT_STRING_EQUAL(e->tree, "/a.dtb");
        CU_ASSERT_STRING_EQUAL(e->title, "the old one");
        CU_ASSERT_STRING_EQUAL(mos_menu_find(x, "main")->arguments, "root=/dev/x  ro ");
    }
    core_end(&c);
}

/* ---- the loader's own tree ---- */

static bool add_key(void *self, struct mos_dt *dt) {
    struct core *c = self;
    size_t length;
    const char *problem;
    char *pem = demo_key(&length);
    bool ok = mos_parcel_add_key(&c->ctx, dt, "mast", pem, length, &problem);
    free(pem);
    return ok;
}

static void plain_tree(struct core *c, struct mos_buf *out) {
    struct mos_dt *dt = mos_dt_new(c->ctx.arena, "control");
    mos_dt_set_text(dt, dt->root, "model", "Saltmarsh Curlew tide gauge");
    mos_dt_write_blob(&c->ctx, dt, false, out);
}

/* The key that must be there then. */
static bool is_locked(struct core *c, const void *blob, size_t length) {
    struct mos_dt *dt = mos_dt_read_blob(&c->ctx, "locked", blob, length);
    const struct mos_dt_node *all = dt ? mos_dt_child(dt->root, "signature") : NULL;
    const struct mos_dt_node *key = all ? mos_dt_child(all, "key-mast") : NULL;
    return key && strcmp(mos_dt_string(dt->root, "model"), "Saltmarsh Curlew tide gauge") == 0 &&
           strcmp(mos_dt_string(key, "required"), "conf") == 0;
}

static void wrap(struct mos_buf *out, const void *payload, size_t length) {
    uint8_t head[MOS_LEGACY_HEADER] = {0x27, 0x05, 0x19, 0x56};
    head[30] = 5; /* firmware */
    mos_legacy_seal(head, payload, length);
    mos_buf_add(out, head, sizeof head);
    mos_buf_add(out, payload, length);
}

static void parcel_with(struct core *c, const struct mos_buf *tree_in, const char *hash,
                        struct mos_buf *out) {
    const struct mos_parcel_item items[] = {
        {.name = "loader", .type = "firmware", .data = "program", .length = 8, .hash = "sha256"},
        {.name = "tree",
         .type = "flat_dt",
         .data = tree_in->data,
         .length = tree_in->length,
         .hash = hash}};
    struct mos_parcel_wish wish = {
        .items = items,
        .item_count = 2,
        .choices = mos_vec_make(c->ctx.arena, sizeof(struct mos_parcel_choice))};
    struct mos_parcel_choice *x = mos_vec_push(&wish.choices);
    *x = (struct mos_parcel_choice){.name = "one",
                                    .firmware = "loader",
                                    .trees = mos_vec_make(c->ctx.arena, sizeof(char *)),
                                    .loadables = mos_vec_make(c->ctx.arena, sizeof(char *))};
    mos_vec_push_pointer(&x->trees, "tree");
    CU_ASSERT_TRUE_FATAL(mos_parcel_write(&c->ctx, &wish, out));
}

/* Alone, behind a program, in a legacy file behind a first stage, in a parcel. */
static void the_loader_is_locked_wherever_its_tree_lies(void) {
    static uint8_t first[32768];
    for (int form = 0; form < 5; form++) {
        struct core c;
        const char *problem, *names;
        core_start(&c);
        struct mos_buf dtb = {.arena = c.ctx.arena}, program = {.arena = c.ctx.arena},
                       in = {.arena = c.ctx.arena}, out = {.arena = c.ctx.arena};
        plain_tree(&c, &dtb);
        mos_buf_text(&program, "a loader's program\n\n");
        mos_buf_add(&program, dtb.data, dtb.length);
        if (form == 0)
            in = dtb;
        else if (form == 1)
            in = program;
        if (form == 2 || form == 3)
            mos_buf_add(&in, first, form == 3 ? sizeof first : 0);
        size_t at = in.length;
        if (form == 2 || form == 3)
            wrap(&in, program.data, program.length);
        if (form == 4)
            parcel_with(&c, &dtb, "crc32", &in);
        CU_ASSERT_TRUE_FATAL(mos_lock_loader(&c.ctx, (const uint8_t *)in.data, in.length, add_key,
                                             &c, &out, &problem));
        const uint8_t *p = (const uint8_t *)out.data;
        if (form < 2) {
            size_t from = form ? program.length - dtb.length : 0;
            CU_ASSERT(memcmp(p, in.data, from) == 0);
            CU_ASSERT_TRUE(is_locked(&c, p + from, out.length - from));
        } else if (form < 4) {
            struct mos_legacy h;
            size_t from = at + MOS_LEGACY_HEADER + program.length - dtb.length;
            CU_ASSERT(at == 0 || memcmp(p, first, at) == 0);
            CU_ASSERT_TRUE(mos_legacy_read(p + at, out.length - at, &h, &problem));
            CU_ASSERT_EQUAL(at + MOS_LEGACY_HEADER + h.size, out.length);
            CU_ASSERT_TRUE(is_locked(&c, p + from, out.length - from));
        } else {
            struct mos_parcel *x = mos_parcel_read(&c.ctx, p, out.length, &problem);
            CU_ASSERT_PTR_NOT_NULL_FATAL(x);
            const struct mos_parcel_part *part = mos_parcel_part(x, "tree");
            CU_ASSERT_TRUE(mos_parcel_check_part(c.ctx.arena, part, &names));
            CU_ASSERT_TRUE(
                mos_parcel_check_part(c.ctx.arena, mos_parcel_part(x, "loader"), &names));
            CU_ASSERT_TRUE(is_locked(&c, part->data, part->length));
        }
        /* nothing to lock: said, not guessed */
        CU_ASSERT_FALSE(mos_lock_loader(&c.ctx, first, sizeof first, add_key, &c, &out, &problem));
        CU_ASSERT_PTR_NOT_NULL(problem);
        core_end(&c);
    }
}

/* What may lie behind the tree, what may not, and what cannot be packed again. */
static void a_loader_that_cannot_be_locked_is_refused(void) {
    enum { MOST = 64 << 10 };
    static const struct {
        size_t padding;
        uint8_t filled, last;
        bool good;
    } tails[] = {{0, 0, 0, true},    {1, 0, 0, true},          {4096, 0xff, 0xff, true},
                 {MOST, 0, 0, true}, {MOST + 1, 0, 0, false},  {MOST + 1, 0xff, 0xff, false},
                 {7, 0, 1, false},   {5000, 0xff, 0xfe, false}};
    static const char *const hashes[] = {"crc32", "sha256"};
    for (size_t i = 0; i < sizeof tails / sizeof *tails; i++) {
        struct core c;
        const char *problem = NULL;
        core_start(&c);
        struct mos_buf in = {.arena = c.ctx.arena}, out = in;
        mos_buf_text(&in, "program ");
        plain_tree(&c, &in);
        uint8_t *tail = memset(mos_alloc(c.ctx.arena, MOST + 1), tails[i].filled, MOST + 1);
        tail[tails[i].padding ? tails[i].padding - 1 : 0] = tails[i].last;
        mos_buf_add(&in, tail, tails[i].padding);
        bool good = mos_lock_loader(&c.ctx, (const uint8_t *)in.data, in.length, add_key, &c, &out,
                                    &problem);
        CU_ASSERT_EQUAL(good, tails[i].good);
        CU_ASSERT(good ? is_locked(&c, out.data + 8, out.length - 8) : problem != NULL);
        /* a tree of nothing but its header is one, and damaged */
        in.length = 8 + 40;
        memset(in.data + 8 + 8, 0, 32);
        mos_put_be32((uint8_t *)in.data + 8 + 4, 40);
        CU_ASSERT_FALSE(mos_lock_loader(&c.ctx, (const uint8_t *)in.data, in.length, add_key, &c,
                                        &out, &problem));
        CU_ASSERT_STRING_EQUAL(problem, "its tree is damaged");
        core_end(&c);
    }
    for (size_t i = 0; i < 6; i++) { /* in a parcel: its hash, and a tree that is none */
        struct core c;
        const char *problem = NULL, *names = "";
        core_start(&c);
        struct mos_buf dtb = {.arena = c.ctx.arena}, in = dtb, out = dtb;
        plain_tree(&c, &dtb);
        if (i >= 3)
            dtb.data[8] = 0x7f; /* where its structure begins */
        parcel_with(&c, &dtb, i % 3 == 2 ? "crc32" : hashes[i % 3], &in);
        if (i % 3 == 2) { /* a kind that nobody knows */
            char *kind = in.data;
            while (kind + 5 < in.data + in.length && memcmp(kind, "crc32", 5) != 0)
                kind++;
            memcpy(kind, "crc99", 5);
        }
        bool good = mos_lock_loader(&c.ctx, (const uint8_t *)in.data, in.length, add_key, &c, &out,
                                    &problem);
        CU_ASSERT_EQUAL(good, i < 2);
        struct mos_parcel *p =
            good ? mos_parcel_read(&c.ctx, out.data, out.length, &problem) : NULL;
        CU_ASSERT(good ? p && mos_parcel_check_part(c.ctx.arena, mos_parcel_part(p, "tree"), &names)
                       : problem != NULL);
        CU_ASSERT(!good || strncmp(names, hashes[i], strlen(hashes[i])) == 0);
        core_end(&c);
    }
}

SUITE(parcel_suite,
      {"a loader that cannot be locked is refused", a_loader_that_cannot_be_locked_is_refused},
      {"data may lie outside", data_may_lie_outside}, {"parcels go round", parcels_go_round},
      {"no signed bit changes unseen", no_signed_bit_changes_unseen},
      {"menus go round", menus_go_round},
      {"the loader is locked wherever its tree lies", the_loader_is_locked_wherever_its_tree_lies});
