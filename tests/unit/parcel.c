/* Parcels: what is written reads back, sums hold, and no signed bit can change unseen. */
#include "support.h"

#include "boot/menu.h"
#include "boot/parcel.h"

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
    struct mos_menu m = mos_menu_read(c.ctx.arena, text, sizeof text - 1), again;
    struct mos_buf out = {.arena = c.ctx.arena};
    CU_ASSERT_EQUAL_FATAL(m.entries.count, 2);
    mos_menu_write(&m, "again", &out);
    again = mos_menu_read(c.ctx.arena, mos_buf_string(&out), out.length);
    for (size_t i = 0; i < 2; i++) {
        const struct mos_menu *x = i ? &again : &m;
        const struct mos_menu_entry *e = mos_menu_find(x, "spare");
        CU_ASSERT_PTR_NOT_NULL_FATAL(e);
        CU_ASSERT_STRING_EQUAL(x->usual, "spare");
        CU_ASSERT_EQUAL(x->timeout, 30);
        CU_ASSERT_STRING_EQUAL(e->kernel, "/old#conf");
        CU_ASSERT_STRING_EQUAL(e->tree, "/a.dtb");
        CU_ASSERT_STRING_EQUAL(e->title, "the old one");
        CU_ASSERT_STRING_EQUAL(mos_menu_find(x, "main")->arguments, "root=/dev/x  ro");
    }
    core_end(&c);
}

SUITE(parcel_suite, {"parcels go round", parcels_go_round},
      {"no signed bit changes unseen", no_signed_bit_changes_unseen},
      {"menus go round", menus_go_round});
