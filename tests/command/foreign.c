/* File systems of others, in every form in which the system's own makers make them: read, changed
 * at random and checked.  What is not changed stays, what is changed is what was put in. */
#include "support.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { FILES = 120, ROUNDS = 2, CHANGES = 24, MANY = 250 };

static const struct kind {
    const char *name, *make; /* of an empty file; ext: filled from the folder `want` */
    bool fat, refused;
} kinds[] = {
    {"ext4", "mkfs.ext4 -q -F -d want", false, false},
    {"ext4 of 1 KiB blocks", "mkfs.ext4 -q -F -b 1024 -d want", false, false},
    {"ext4 of small inodes", "mkfs.ext4 -q -F -I 128 -d want", false, false},
    {"ext4 without sums", "mkfs.ext4 -q -F -O ^metadata_csum,^64bit -d want", false, false},
    {"ext4 with group sums", "mkfs.ext4 -q -F -b 1024 -O ^metadata_csum,uninit_bg -d want", false,
     false},
    {"ext4 with meta groups", "mkfs.ext4 -q -F -b 1024 -O meta_bg,^resize_inode -d want", false,
     false},
    {"ext4 without flex groups", "mkfs.ext4 -q -F -b 1024 -O ^flex_bg -d want", false, false},
    {"ext4 with two superblocks", "mkfs.ext4 -q -F -b 1024 -O sparse_super2 -d want", false, false},
    {"ext4 with a stored seed", "mkfs.ext4 -q -F -O metadata_csum_seed -d want", false, false},
    {"ext4 without a journal", "mkfs.ext4 -q -F -O ^has_journal,^dir_index -d want", false, false},
    {"ext3", "mkfs.ext3 -q -F -d want", false, false},
    {"ext2", "mkfs.ext2 -q -F -b 1024 -d want", false, false},
    {"ext4 with inline data", "mkfs.ext4 -q -F -O inline_data -d want", false, true},
    {"ext4 of clusters", "mkfs.ext4 -q -F -O bigalloc -d want", false, true},
    {"FAT32", "mkfs.fat -F 32 -s 1 >/dev/null", true, false},
    {"FAT16", "mkfs.fat -F 16 >/dev/null", true, false},
    {"FAT12", "mkfs.fat -F 12 -s 16 >/dev/null", true, false},
};

struct world {
    const char *w;
    const struct kind *kind;
    uint64_t seed;
    char names[FILES + ROUNDS * CHANGES + MANY + 8]
              [80]; /* paths; "" where there is none any more */
    size_t count;
};

/* Bytes that compress badly, with holes of whole blocks in every other place where asked. */
static void make_content(struct world *x, const char *path, size_t length, bool holes) {
    uint8_t *bytes = malloc(length + 1);
    for (size_t i = 0; i < length; i++)
        bytes[i] = (uint8_t)(random_next(&x->seed) | 1);
    for (size_t i = 4096; holes && i + 4096 <= length; i += 8192)
        memset(bytes + i, 0, 4096);
    write_file(path, bytes, length);
    free(bytes);
}

static char *new_name(struct world *x) {
    static const char *const folders[] = {"", "etc/", "many of them/", "a/b/c/"};
    char *name = x->names[x->count];
    snprintf(name, sizeof x->names[0], "%sfile %zu%.*s", folders[random_below(&x->seed, 4)],
             x->count, (int)random_below(&x->seed, 40),
             " of a long name that goes on and on and on");
    size_t n = strlen(name); /* FAT drops blanks at an end */
    name[n - 1] = name[n - 1] == ' ' ? '_' : name[n - 1];
    x->count++;
    return name;
}

static size_t some_length(struct world *x) {
    switch (random_below(&x->seed, 8)) {
    case 0:
        return 0;
    case 1:
        return random_below(&x->seed, 400000);
    default:
        return random_below(&x->seed, 6000);
    }
}

static void start(struct world *x) {
    CU_ASSERT_TRUE_FATAL(runs(0, "cd '%s' && rm -rf want a.img && mkdir want", x->w));
    for (size_t i = 0; i < FILES; i++) {
        const char *name = new_name(x);
        make_content(x, path_in(x->w, "want/%s", name), some_length(x), false);
    }
    /* so many pieces that a file needs blocks for its map */
    make_content(x, path_in(x->w, "want/%s", new_name(x)), 3000000, true);
    CU_ASSERT(runs(0, "cd '%s' && truncate -s %dM a.img && %s a.img 2>&1", x->w,
                   x->kind->fat && strstr(x->kind->make, "12") ? 16 : 40,
                   x->kind->fat ? "true" : x->kind->make));
    if (!x->kind->fat)
        return;
    /* all of it comes in by us */
    const char *line = strstr(x->kind->make, " >");
    CU_ASSERT(runs(0,
                   "cd '%s' && %.*s a.img >/dev/null && set -- && for f in $(cd want && find . "
                   "-type f | tr ' ' '\\001'); do f=$(echo \"$f\" | tr '\\001' ' '); set -- \"$@\" "
                   "\":${f#./}=want/${f#./}\"; done && '%s' -q amend a.img \"$@\" -o b.img && mv "
                   "b.img a.img",
                   x->w, (int)(line - x->kind->make), x->kind->make, MOSAICUM_PROGRAM));
}

/* Some changes, in the folder and, as arguments, for the image. */
static void change(struct world *x, struct mos_buf *arguments, bool many) {
    arguments->length = 0;
    for (size_t i = 0; many && i < MANY; i++) { /* one folder becomes large */
        char *name = x->names[x->count];
        snprintf(name, sizeof x->names[0], "many of them/one of some hundred files, number %zu",
                 x->count++);
        write_text(path_in(x->w, "want/%s", name), name);
        mos_buf_printf(arguments, " ':%s=want/%s'", name, name);
    }
    for (size_t i = 0; i < CHANGES; i++) {
        uint64_t what = random_below(&x->seed, 3);
        char *name = what ? new_name(x) : x->names[random_below(&x->seed, x->count)];
        bool removes = what == 0 && random_below(&x->seed, 2);
        if (!*name || strstr(mos_buf_string(arguments), name))
            continue; /* each once */
        if (removes) {
            CU_ASSERT_EQUAL(unlink(path_in(x->w, "want/%s", name)), 0);
            mos_buf_printf(arguments, " ':~%s'", name);
            *name = 0;
            continue;
        }
        make_content(x, path_in(x->w, "want/%s", name), some_length(x), i % 8 == 0);
        mos_buf_printf(arguments, " ':%s=want/%s'", name, name);
    }
}

/* What `take` gives of the whole volume, beside the folder; without what a maker adds. */
static bool reads_back(const struct world *x, const char *image) {
    return runs(
        0,
        "cd '%s' && rm -rf t && mkdir t && '%s' -q take %s : -o a.tar && tar -xf a.tar -C t "
        "&& rm -f a.tar && find t want -depth -type d -empty -delete && diff -r t want",
        x->w, MOSAICUM_PROGRAM, image);
}

static bool judged(const struct world *x, const char *image) {
    if (x->kind->fat)
        return runs(0, "cd '%s' && $JUDGE fsck.fat -n %s", x->w, image);
    return runs(0, "cd '%s' && $JUDGE e2fsck -fn %s", x->w, image) &&
           runs(0,
                "cd '%s' && rm -rf t && mkdir t && debugfs -R 'rdump / t' %s >log 2>&1 && find t "
                "want -depth -type d -empty -delete && diff -r t want",
                x->w, image);
}

static void volumes_of_others_are_changed(void) {
    struct core c;
    core_start(&c);
    struct mos_buf arguments = {.arena = c.ctx.arena};
    for (size_t k = 0; k < sizeof kinds / sizeof *kinds; k++) {
        struct world x = {.w = keep(test_folder("foreign")), .kind = &kinds[k], .seed = 7 + k};
        start(&x);
        bool good = reads_back(&x, "a.img");
        for (size_t round = 0; round < ROUNDS && good; round++) {
            change(&x, &arguments, round == 1);
            struct outcome o = run_shell("cd '%s' && '%s' -q amend a.img %s -o b.img", x.w,
                                         MOSAICUM_PROGRAM, mos_buf_string(&arguments));
            good = o.status == (kinds[k].refused ? 2 : 0);
            if (!good)
                fprintf(stderr, "\n%s%s\n", o.out, o.err);
            outcome_free(&o);
            CU_ASSERT_EQUAL(exists(path_in(x.w, "b.img")), good && !kinds[k].refused);
            if (!good || kinds[k].refused)
                break;
            good = judged(&x, "b.img") && reads_back(&x, "b.img") &&
                   runs(0, "cd '%s' && mv b.img a.img", x.w);
        }
        if (!good)
            fprintf(stderr, "\n%s\n", kinds[k].name);
        CU_ASSERT(good);
        remove_folder(x.w);
    }
    core_end(&c);
}

SUITE(foreign_suite, {"volumes of others are changed", volumes_of_others_are_changed});
