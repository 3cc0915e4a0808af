/* Damaged images, archives, workspaces and cache folders through every job of the library, in
 * batches of processes of their own, with limits on time, memory and the size of files.  A host of
 * ours stands below the program and looks at every place that is touched: nothing but what the job
 * was given.
 *
 *     attack COUNT [SEED]      seeds can be repeated one by one: attack 1 SEED
 */
#define _GNU_SOURCE
#include "support.h"

#include "mosaicum/mosaicum.h"
#include "platform/platform.h"

#include <dirent.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/time.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

enum {
    BATCH = 100,
    SECONDS = 20,
    MOST_FILE = 256 << 20,
    MOST_PLACES = 8,
    ESCAPED = 99,
    MOST_MEMORY = 1 << 20 /* KiB */
};

static uint64_t state;
static char base[4096]; /* what is damaged, made once */
static char work[4096]; /* of the input at hand */

static size_t below(size_t n) {
    return (size_t)random_below(&state, n ? n : 1);
}

/* ---- the watching host ---- */

static struct {
    struct mos_host host;
    const char *reads[MOST_PLACES], *writes[MOST_PLACES];
    size_t read_count, write_count;
    unsigned long escapes;
} watch;

static bool lies_below(const char *path, const char *const *places, size_t count, bool follow) {
    char folder[4096], *real = NULL;
    snprintf(folder, sizeof folder, "%s", path);
    char *slash = strrchr(folder, '/');
    real = follow ? realpath(path, NULL) : NULL;
    while (!real && slash) { /* what is not there yet: where its folder is */
        slash[slash == folder] = 0;
        real = realpath(folder, NULL);
        slash = strrchr(folder, '/');
    }
    if (!real)
        real = realpath(".", NULL);
    bool inside = false;
    for (size_t i = 0; i < count && !inside; i++) {
        char *place = realpath(places[i], NULL);
        size_t n = place ? strlen(place) : 0;
        inside = n && strncmp(real, place, n) == 0 && (!real[n] || real[n] == '/');
        free(place);
    }
    free(real);
    return inside;
}

static void look(const char *what, const char *path, bool write, bool follow) {
    if (lies_below(path, write ? watch.writes : watch.reads,
                   write ? watch.write_count : watch.read_count, follow))
        return;
    watch.escapes++;
    fprintf(stderr, "ESCAPE: %s %s\n", what, path);
}

static int watch_open(const struct mos_host *h, const char *path, enum mos_open_mode mode,
                      int *file) {
    (void)h;
    int e = mos_platform_host()->open(mos_platform_host(), path, mode, file);
    if (!e)
        look(mode == MOS_OPEN_READ ? "read" : "write", path, mode != MOS_OPEN_READ, true);
    return e;
}

#define WATCHED(name, verb, parameters, arguments, path)                                           \
    static int watch_##name parameters {                                                           \
        (void)h;                                                                                   \
        look(verb, path, true, false);                                                             \
        return mos_platform_host()->name arguments;                                                \
    }
WATCHED(make_link, "link", (const struct mos_host *h, const char *target, const char *path),
        (mos_platform_host(), target, path), path)
WATCHED(remove_tree, "remove", (const struct mos_host *h, const char *path),
        (mos_platform_host(), path), path)
WATCHED(rename, "rename", (const struct mos_host *h, const char *from, const char *to),
        (mos_platform_host(), from, to), to)
WATCHED(rename_new, "rename", (const struct mos_host *h, const char *from, const char *to),
        (mos_platform_host(), from, to), to)
WATCHED(exchange, "exchange", (const struct mos_host *h, const char *a, const char *b),
        (mos_platform_host(), a, b), b)
WATCHED(protect, "protect", (const struct mos_host *h, const char *path, uint32_t mode),
        (mos_platform_host(), path, mode), path)

static int watch_list(const struct mos_host *h, const char *path,
                      bool (*each)(void *self, const char *name), void *self) {
    (void)h;
    look("list", path, false, true);
    return mos_platform_host()->list(mos_platform_host(), path, each, self);
}

static int watch_survey(const struct mos_host *h, const char *path,
                        bool (*each)(void *self, const char *name,
                                     const struct mos_file_info *info),
                        void *self) {
    (void)h;
    look("survey", path, false, true);
    return mos_platform_host()->survey(mos_platform_host(), path, each, self);
}

/* Programs are not started: commands of a damaged definition could be any. */
static int watch_run(const struct mos_host *h, const struct mos_program *p,
                     struct mos_program_result *r) {
    (void)h;
    if (strcmp(p->arguments[0], "cpp") == 0)
        return mos_platform_host()->run(mos_platform_host(), p, r);
    return EPERM;
}

static mosaicum *begin(const char *workspace, const char *cache) {
    watch.host = *mos_platform_host();
    watch.host.open = watch_open;
    watch.host.make_link = watch_make_link;
    watch.host.remove_tree = watch_remove_tree;
    watch.host.rename = watch_rename;
    watch.host.rename_new = watch_rename_new;
    watch.host.exchange = watch_exchange;
    watch.host.protect = watch_protect;
    watch.host.list = watch_list;
    watch.host.survey = watch_survey;
    watch.host.run = watch_run;
    watch.read_count = watch.write_count = 0;
    watch.reads[watch.read_count++] = work;
    watch.reads[watch.read_count++] = base;
    watch.writes[watch.write_count++] = work;
    struct mosaicum_options o = {
        .host = &watch.host, .workspace = workspace, .cache_folder = cache};
    return mosaicum_new(&o);
}

/* What a program reads of one row. */
struct reading {
    size_t columns, rows, bytes;
};

static bool read_row(void *self, const struct mosaicum_cell *cells) {
    struct reading *r = self;
    for (size_t i = 0; i < r->columns; i++)
        r->bytes += strlen(cells[i].text);
    r->rows++;
    return true;
}

/* What came of it is looked at, as a program would. */
static void end(mosaicum *m, int status) {
    size_t bytes = 0;
    for (size_t i = 0; i < mosaicum_finding_count(m); i++) {
        const struct mosaicum_finding *f = mosaicum_finding_at(m, i);
        bytes += strlen(f->message) + strlen(f->rule);
        for (size_t k = 0; k < f->place_count; k++)
            bytes += f->places[k].file ? strlen(f->places[k].file) : 0;
    }
    for (size_t i = 0; i < mosaicum_table_count(m); i++) {
        const struct mosaicum_table *t = mosaicum_table_at(m, i);
        struct reading r = {.columns = t->column_count};
        bool whole = mosaicum_table_rows(m, t, read_row, &r);
        if (whole && r.rows != t->row_count) {
            fprintf(stderr, "OTHER ROWS: %zu of %zu\n", r.rows, t->row_count);
            abort();
        }
        bytes += r.bytes;
    }
    if (status < 0 || status > 4 ||
        (status > 1 && !mosaicum_error(m) && !mosaicum_finding_count(m))) {
        fprintf(stderr, "NO WORD: status %d\n", status);
        abort();
    }
    if (bytes == SIZE_MAX)
        abort();
    mosaicum_free(m);
}

/* ---- damage ---- */

static uint8_t *damaged(uint8_t *p, size_t *length, bool text) {
    static const char *const words[] = {"\n",
                                        ": ",
                                        "{",
                                        "}",
                                        "[",
                                        "]",
                                        "\"",
                                        "../",
                                        "<root>",
                                        "0x",
                                        "18446744073709551615",
                                        "-1",
                                        "~",
                                        "*",
                                        "&a",
                                        "!!x",
                                        "\\e[31m",
                                        "rest",
                                        "%",
                                        "#include \"../../x\"\n",
                                        "/incbin/(\"/etc/passwd\")",
                                        "none",
                                        "yes",
                                        "0 B",
                                        "16777216 TiB",
                                        "<x>/y",
                                        "made-by: {run: [sh]}",
                                        "\x80\xff"};
    size_t times = 1 + below(6);
    for (size_t i = 0; i < times && *length; i++) {
        size_t at = below(*length);
        if (below(2)) /* where something is */
            while (at + 1 < *length && !p[at])
                at++;
        switch (below(text ? 7 : 5)) {
        case 0:
            p[at] ^= (uint8_t)(1u << below(8));
            break;
        case 1:
            p[at] = below(2) ? 0xff : 0;
            break;
        case 2: { /* a piece of it elsewhere */
            size_t from = below(*length), n = 1 + below(64);
            n = n > *length - at ? *length - at : n;
            n = n > *length - from ? *length - from : n;
            memmove(p + at, p + from, n);
            break;
        }
        case 3: /* a large number */
            for (size_t k = 0; k < 4 && at + k < *length; k++)
                p[at + k] = k == below(4) ? 0x7f : 0xff;
            break;
        case 4: /* cut */
            if (!below(8))
                *length = at;
            break;
        default: { /* a word in it */
            const char *word = words[below(sizeof words / sizeof *words)];
            size_t n = strlen(word);
            p = realloc(p, *length + n + 1);
            memmove(p + at + n, p + at, *length - at);
            memcpy(p + at, word, n);
            *length += n;
        }
        }
    }
    return p;
}

static char *pick_file(const char *folder, bool deep) {
    struct outcome o =
        run_shell("cd '%s' && find . %s -type f | sort", folder, deep ? "" : "-maxdepth 1");
    char *names[2048], *p = o.out;
    size_t count = 0;
    for (char *e; count < 2048 && (e = strchr(p, '\n')); p = e + 1) {
        *e = 0;
        names[count++] = p;
    }
    char *chosen = keep(count ? path_in(folder, "%s", names[below(count)] + 2) : "");
    outcome_free(&o);
    return chosen;
}

static void damage_file(const char *from, const char *to, bool text) {
    size_t length;
    uint8_t *p = (uint8_t *)read_whole(from, &length);
    if (!p)
        abort();
    p = damaged(p, &length, text);
    write_file(to, p, length);
    free(p);
}

/* ---- what is attacked ---- */

static void attack_image(void) {
    char *from = pick_file(path_in(base, "images"), false), *image = keep(path_in(work, "x.img"));
    damage_file(from, image, false);
    mosaicum *m = begin(NULL, NULL);
    end(m, mosaicum_inspect(m, image, true));
    static const char *const wanted[] = {
        "1", "root", "BOOT:", "root:etc", "root:", "cpio:", ":", "BOOT:boot.scr", "0 bytes"};
    m = begin(NULL, NULL);
    end(m, mosaicum_take(m, image, wanted[below(9)], path_in(work, "taken.tar")));
    m = begin(NULL, NULL);
    end(m, mosaicum_compare(m, image, from));
    static const char *const changes[] = {"root:etc/issue=", "BOOT:new=", "1=", "root:~etc/passwd",
                                          "BOOT:~boot.scr"};
    char change[4200];
    size_t k = below(5);
    snprintf(change, sizeof change, "%s%s", changes[k],
             strchr(changes[k], '~') ? "" : path_in(base, "small"));
    const char *list[] = {change};
    m = begin(NULL, NULL);
    end(m, mosaicum_amend(m, image, list, 1, path_in(work, "amended.img")));
    m = begin(NULL, NULL);
    struct mosaicum_rehearsal q = {.what = image,
                                   .cpu = "arm64",
                                   .ram_start = "0x40000000",
                                   .ram = "64 MiB",
                                   .faults = !below(16)};
    end(m, mosaicum_rehearse(m, &q));
    m = begin(keep(path_in(work, "new")), NULL);
    struct mosaicum_draft d = {.name = "jetty", .from = image};
    end(m, mosaicum_new_board(m, &d));
}

static void attack_archive(void) {
    char *from = pick_file(path_in(base, "archives"), false), *w = keep(path_in(work, "ws"));
    copy_folder(path_in(base, "root-ws"), w);
    damage_file(from, path_in(w, "pieces/root"), false);
    mosaicum *m = begin(w, NULL);
    end(m, mosaicum_check(m, NULL, 0));
    m = begin(w, NULL);
    end(m, mosaicum_build(m, NULL, 0, NULL));
}

static void attack_workspace(void) {
    char *all = keep(path_in(base, "workspaces")), *w = keep(path_in(work, "ws"));
    struct outcome o = run_shell("ls '%s'", all);
    char *names[512], *p = o.out;
    size_t count = 0;
    for (char *e; count < 512 && (e = strchr(p, '\n')); p = e + 1) {
        *e = 0;
        names[count++] = p;
    }
    copy_folder(path_in(all, "%s", names[below(count)]), w);
    outcome_free(&o);
    for (size_t i = 0; i < 1 + below(2); i++) {
        char *file = pick_file(w, true);
        damage_file(file, file, true);
    }
    if (!below(6)) { /* a link out, or in a circle */
        char *file = pick_file(w, true);
        unlink(file);
        if (symlink(below(2) ? "/etc/passwd" : file, file))
            abort();
    }
    static const char *const parts[] = {"layout", "ram", "boot",    "kernel",
                                        "tree",   "env", "budgets", "all"};
    mosaicum *m = begin(w, NULL);
    end(m, mosaicum_check(m, NULL, 0));
    m = begin(w, NULL);
    end(m, mosaicum_show(m, NULL, parts[below(8)], below(2)));
    m = begin(w, NULL);
    end(m, mosaicum_list(m));
    m = begin(w, NULL);
    end(m, mosaicum_build(m, NULL, 0, below(2) ? NULL : path_in(work, "out")));
    m = begin(w, NULL);
    end(m, below(2) ? mosaicum_accept(m, NULL, 0) : mosaicum_pin(m, NULL, 0));
}

/* The cache of a good build, damaged: the same findings as without one. */
static void attack_cache(void) {
    char *cache = keep(path_in(work, "cache")), *w = keep(path_in(base, "root-ws"));
    copy_folder(path_in(base, "cache"), cache);
    for (size_t i = 0; i < 1 + below(4); i++) {
        char *file = pick_file(cache, true);
        if (below(8))
            damage_file(file, file, false);
        else if (unlink(file) || (below(2) && symlink("/etc/passwd", file)))
            abort();
    }
    mosaicum *m = begin(w, cache);
    int status = mosaicum_check(m, NULL, 0);
    if (status || mosaicum_finding_count(m)) {
        fprintf(stderr, "CACHE BELIEVED: status %d\n", status);
        abort();
    }
    end(m, status);
    m = begin(w, cache);
    char *out = keep(path_in(work, "out"));
    end(m, mosaicum_build(m, NULL, 0, out));
    if (!runs(0, "cmp '%s/curlew/card.img' '%s/good.img'", out, base))
        abort();
}

static struct slowest {
    uint64_t seed, milliseconds;
} * slowest; /* shared with the processes that attack */

static uint64_t processor_time(void) { /* in ms */
    struct timespec t;
    clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
    return (uint64_t)t.tv_sec * 1000 + (uint64_t)t.tv_nsec / 1000000;
}

/* Processor time is what a job may spend; a machine may stand still for longer, but not for ever.
 */
static void limit_time(unsigned seconds) {
    struct itimerval most = {.it_value.tv_sec = seconds};
    if (setitimer(ITIMER_PROF, &most, NULL))
        abort();
    alarm(seconds * 15);
}

static void attack(uint64_t seed) {
    static void (*const kinds[])(void) = {attack_image, attack_archive, attack_workspace,
                                          attack_cache};
    state = seed * 0x9e3779b97f4a7c15u;
    uint64_t before = processor_time();
    limit_time(SECONDS);
    kinds[seed % 4]();
    limit_time(0);
    uint64_t taken = processor_time() - before;
    if (taken > slowest->milliseconds)
        *slowest = (struct slowest){seed, taken};
    remove_folder(work);
    if (mkdir(work, 0755))
        abort();
}

/* ---- what it starts from ---- */

static void make_base(void) {
    snprintf(base, sizeof base, "%s", test_folder("base"));
    write_text(path_in(base, "small"), "jetty\n");
    char *w = keep(path_in(base, "root-ws"));
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(
        path_in(w, "boards/curlew.yaml"),
        "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 8 MiB, kernel: "
        "mmcblk0}}}\npieces: {root: {file: pieces/root, license: MIT}}\nlayout: {card: {table: "
        "{kind: gpt}, "
        "regions: {boot: {number: 1, size: 2 MiB, volume: {kind: fat12, label: BOOT, fills: {all: "
        "{archive: "
        "root, only: boot}}}}, root: {number: 2, size: rest, volume: {kind: ext4, label: root, "
        "fills: {all: "
        "{archive: root}}}}}}}\n");
    if (!runs(
            0,
            "cd '%s' && mkdir -p r/etc r/sbin r/boot archives images cache workspaces "
            "root-ws/pieces && echo "
            "'root:x:0:0::/:/bin/sh' > r/etc/passwd && echo 'root:*:1::::::' > r/etc/shadow && "
            "seq 6000 | "
            "head -c 30000 > r/sbin/init && chmod 755 r/sbin/init && ln -s init r/sbin/sh && echo "
            "x > r/boot/x && find r -exec touch -h -d @1700000000 {} + && tar "
            "-C r --owner=0 --group=0 -cf archives/a.tar . && gzip -k archives/a.tar && xz -k "
            "archives/a.tar && zstd "
            "-q archives/a.tar && bzip2 -k archives/a.tar && (cd r && find . | cpio --quiet -o "
            "-H newc) > "
            "archives/a.cpio && cp archives/a.tar root-ws/pieces/root && '%s' --no-cache -q -w "
            "root-ws build --out "
            "built && cp built/curlew/card.img good.img && cp good.img images/gpt.img && gzip -9 "
            "-k images/gpt.img && "
            "'%s' -q take good.img root -o images/root.img && '%s' -q take good.img 1 -o "
            "images/boot.img && cp "
            "archives/a.cpio archives/a.tar.gz images/ && for d in '%s'/tests/rules/[!w]*; do cp -r "
            "\"$d/fails\" "
            "\"workspaces/$(basename $d)-f\"; cp -r \"$d/passes\" \"workspaces/$(basename "
            "$d)-p\"; done && sleep 0.1",
            base, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_SOURCE) ||
        !runs(0,
              "cd '%s' && sed -i '1!b' workspaces/*/boards/*.yaml && XDG_CACHE_HOME='%s/c' '%s' -q "
              "-w root-ws check && "
              "cp c/mosaicum/* cache/",
              base, base, MOSAICUM_PROGRAM))
        abort();
    snprintf(work, sizeof work, "%s", test_folder("work"));
}

int main(int argc, char **argv) {
    uint64_t count = argc > 1 ? strtoull(argv[1], NULL, 10) : 2000,
             seed = argc > 2 ? strtoull(argv[2], NULL, 10) : 1;
    uint64_t bad = 0, escapes = 0, done = 0;
    long peak = 0;
    slowest =
        mmap(NULL, sizeof *slowest, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    if (slowest == MAP_FAILED)
        abort();
    make_base();
    struct rlimit files = {MOST_FILE, MOST_FILE};
    for (uint64_t from = seed; from < seed + count;) {
        uint64_t until = from + BATCH < seed + count ? from + BATCH : seed + count;
        int notes[2], status;
        struct rusage use;
        if (pipe(notes))
            abort();
        fflush(NULL);
        pid_t pid = fork();
        if (pid == 0) {
            setrlimit(RLIMIT_FSIZE, &files);
            for (uint64_t s = from; s < until; s++) {
                if (write(notes[1], &s, sizeof s) != sizeof s)
                    abort();
                attack(s);
            }
            _exit(watch.escapes ? ESCAPED : 0); /* sanitizers end with 1 */
        }
        close(notes[1]);
        uint64_t last = from;
        for (uint64_t s; read(notes[0], &s, sizeof s) == sizeof s;)
            last = s;
        close(notes[0]);
        wait4(pid, &status, 0, &use);
        peak = use.ru_maxrss > peak ? use.ru_maxrss : peak;
        if (WIFEXITED(status) && WEXITSTATUS(status) == 0) {
            done += until - from;
            from = until;
            continue;
        }
        if (WIFEXITED(status) && WEXITSTATUS(status) == ESCAPED) {
            escapes++;
            printf("something outside was touched, seeds %llu to %llu\n", (unsigned long long)from,
                   (unsigned long long)last);
            done += until - from;
            from = until;
            continue;
        }
        bad++;
        printf("seed %llu: %s %d\n", (unsigned long long)last,
               WIFSIGNALED(status) ? "signal" : "status",
               WIFSIGNALED(status) ? WTERMSIG(status) : WEXITSTATUS(status));
        remove_folder(work);
        mkdir(work, 0755);
        done += last + 1 - from;
        from = last + 1;
    }
    printf("%llu inputs: %llu ended badly, %llu batches touched something outside; peak %ld MiB\n",
           (unsigned long long)done, (unsigned long long)bad, (unsigned long long)escapes,
           peak >> 10);
    printf("the slowest: seed %llu, %llu ms of processor time\n", (unsigned long long)slowest->seed,
           (unsigned long long)slowest->milliseconds);
    if (peak > MOST_MEMORY)
        puts("more memory than 1 GiB");
    return bad || escapes || peak > MOST_MEMORY;
}
