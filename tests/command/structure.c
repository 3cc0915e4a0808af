/* The rules of the house: who may include whom, who may print. */
#include "support.h"

#include <ctype.h>
#include <dirent.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

/* DESIGN: folder, folders it may include besides itself. */
static const struct {
    const char *folder, *allowed;
} directions[] = {
    {"base", "mosaicum"},
    {"io", "base mosaicum"},
    {"model", "base io"},
    {"content", "base io"},
    {"disk", "base io"},
    {"fs", "base io content"},
    {"tree", "base io"},
    {"bindings", "base io model tree"},
    {"kconfig", "base io"},
    {"linux", "base io content tree kconfig"},
    {"boot", "base io fs tree linux"},
    {"store", "base io"},
    {"ledger", "base io"},
    {"plan", "base io model content disk fs boot tree kconfig linux store ledger loaders"},
    {"rules", "base io model content disk fs boot tree bindings kconfig linux store ledger plan "
              "loaders"},
    {"build", "base io model content disk fs boot tree kconfig linux store ledger plan"},
    {"media", "base io mosaicum"},
    {"link", "base io mosaicum"},
    {"watch", "base"},
    {"programming", "base io boot link media mosaicum"},
    {"rehearse", "base io content boot tree linux disk fs"},
    {"learning", "base link tree"},
    {"loaders", "base io content boot tree linux disk fs rehearse learning"},
    {"trial", "base io model content disk fs boot tree kconfig linux store ledger plan rehearse"},
    {"api", "base io model content disk fs boot tree bindings kconfig linux loaders store ledger "
            "plan rules build media link programming rehearse trial watch learning mosaicum"},
    {"platform", "mosaicum"},
    {"cli", "mosaicum platform"},
};

static bool word_in(const char *list, const char *word, size_t length) {
    for (const char *p = list; *p; p += strcspn(p, " ") + (p[strcspn(p, " ")] == ' '))
        if (strcspn(p, " ") == length && strncmp(p, word, length) == 0)
            return true;
    return false;
}

static void check_include(const char *folder, const char *allowed, const char *file,
                          const char *line) {
    char name[128];
    if (sscanf(line, "#include \"%127[^\"]\"", name) != 1)
        return;
    size_t n = strcspn(name, "/");
    bool good = strncmp(folder, name, n) == 0 && folder[n] == 0;
    if (!good && !word_in(allowed, name, n)) {
        fprintf(stderr, "\n%s: %s may not include %s\n", file, folder, name);
        CU_FAIL("include direction");
    }
}

static void check_file(const char *folder, const char *allowed, const char *file) {
    char *text = read_whole(file, NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(text);
    size_t lines = 0;
    for (char *line = strtok(text, "\n"); line; line = strtok(NULL, "\n"), lines++) {
        check_include(folder, allowed, file, line);
        static const char *const prints[] = {" printf(", " puts(", "fprintf(stderr", "perror(",
                                             "exit("};
        for (size_t i = 0; i < 5 && strcmp(folder, "cli") != 0 && strcmp(folder, "platform") != 0;
             i++)
            if (strstr(line, prints[i])) {
                fprintf(stderr, "\n%s prints or exits: %s\n", file, line);
                CU_FAIL("printing outside of cli");
            }
    }
    CU_ASSERT(lines < 900);
    free(text);
}

static void walk(const char *folder, const char *allowed, const char *path) {
    DIR *d = opendir(path);
    CU_ASSERT_PTR_NOT_NULL_FATAL(d);
    struct dirent *e;
    while ((e = readdir(d))) {
        struct stat st;
        if (e->d_name[0] == '.')
            continue;
        char *inner = strdup(path_in(path, "%s", e->d_name));
        if (stat(inner, &st) == 0 && S_ISDIR(st.st_mode))
            walk(folder, allowed, inner);
        else
            check_file(folder, allowed, inner);
        free(inner);
    }
    closedir(d);
}

static void includes_follow_the_table(void) {
    for (size_t i = 0; i < sizeof directions / sizeof *directions; i++) {
        char *path = strdup(path_in(MOSAICUM_SOURCE, "src/%s", directions[i].folder));
        walk(directions[i].folder, directions[i].allowed, path);
        free(path);
    }
}

static void no_folder_is_outside_the_table(void) {
    DIR *d = opendir(path_in(MOSAICUM_SOURCE, "src"));
    CU_ASSERT_PTR_NOT_NULL_FATAL(d);
    struct dirent *e;
    while ((e = readdir(d))) {
        bool known = e->d_name[0] == '.';
        for (size_t i = 0; i < sizeof directions / sizeof *directions; i++)
            known |= strcmp(directions[i].folder, e->d_name) == 0;
        CU_ASSERT(known);
    }
    closedir(d);
}

/* ---- what belongs to a driver stays in its folder ---- */

/* Folders of drivers: files elsewhere in src/ know the parent's headers only. */
static const char *const drivers[] = {"fs/ext4/", "fs/fat/", "fs/squashfs/", "loaders/u-boot/"};
/* Headers between the files of one folder only. */
static const char *const private_headers[][2] = {{"plan/steps.h", "plan/"},
                                                 {"plan/made/made.h", "plan/"}};

/* Words of a loader's own: outside of its folder nobody says them.  A file system names the
 * dialects that know it. */
static const char *const words[] = {"bootcmd", "bootdelay", "setenv",   "saveenv",  "booti",
                                    "bootz",   "bootm",     "boot.scr", "extlinux", "uboot",
                                    "u-boot",  "fw_",       "_addr_r",  "fdt_high", "distro_"};

static bool is_row_of_fs(const char *file, const char *line) {
    return strncmp(file, "fs/", 3) == 0 && strstr(line, "{.dialect = ");
}

/* Is a word said in one of the line's texts? */
static const char *said(const char *line) {
    for (const char *p = strchr(line, '"'); p;) {
        const char *end = strchr(p + 1, '"');
        if (!end)
            return NULL;
        for (size_t i = 0; i < sizeof words / sizeof *words; i++) {
            const char *at = strstr(p, words[i]);
            size_t n = strlen(words[i]);
            bool goes_on = at && isalnum((unsigned char)at[n]) && isalnum((unsigned char)at[n - 1]);
            if (at && at < end && !goes_on)
                return words[i];
        }
        p = strchr(end + 1, '"');
    }
    return NULL;
}

static void look_for_guests(const char *root, const char *inside) {
    const char *path = keep(path_in(root, "%s", inside));
    DIR *d = opendir(path);
    CU_ASSERT_PTR_NOT_NULL_FATAL(d);
    for (struct dirent *e; (e = readdir(d));) {
        struct stat st;
        char name[300];
        snprintf(name, sizeof name, "%s%s%s", inside, *inside ? "/" : "", e->d_name);
        if (e->d_name[0] == '.' || stat(path_in(root, "%s", name), &st))
            continue;
        if (S_ISDIR(st.st_mode)) {
            look_for_guests(root, name);
            continue;
        }
        char *text = read_whole(path_in(root, "%s", name), NULL);
        for (char *line = strtok(text, "\n"); line; line = strtok(NULL, "\n")) {
            char included[128] = "";
            sscanf(line, "#include \"%127[^\"]\"", included);
            const char *word =
                *included || strncmp(name, "loaders/u-boot/", 15) == 0 || is_row_of_fs(name, line)
                    ? NULL
                    : said(line);
            for (size_t i = 0; i < sizeof drivers / sizeof *drivers; i++)
                if (strncmp(included, drivers[i], strlen(drivers[i])) == 0 &&
                    strncmp(name, drivers[i], strlen(drivers[i])) != 0)
                    word = included;
            for (size_t i = 0; i < sizeof private_headers / sizeof *private_headers; i++)
                if (strcmp(included, private_headers[i][0]) == 0 &&
                    strncmp(name, private_headers[i][1], strlen(private_headers[i][1])) != 0)
                    word = included;
            if (word)
                fprintf(stderr, "\n%s: %s\n", name, line);
            CU_ASSERT_PTR_NULL(word);
        }
        free(text);
    }
    closedir(d);
}

static void drivers_keep_to_themselves(void) {
    look_for_guests(keep(path_in(MOSAICUM_SOURCE, "src")), "");
}

/* ---- every declaration has its contract ---- */

static bool begins_declaration(const char *line) {
    return (isalpha((unsigned char)*line) || *line == '_') && strchr(line, '(') &&
           strncmp(line, "typedef", 7) != 0 && strncmp(line, "enum", 4) != 0 &&
           strncmp(line, "MOS_", 4) != 0;
}

static bool has_comment_end(const char *line) {
    size_t n = strlen(line);
    return n > 1 && strcmp(line + n - 2, "*/") == 0;
}

/* A comment stands above, or above those that it belongs together with, or behind it. */
static void look_for_contracts(const char *path) {
    enum { MOST_LINES = 1000 };
    char *text = read_whole(path, NULL), *lines[MOST_LINES + 1];
    size_t count = 0;
    for (char *p = text; p && count < MOST_LINES; p = strchr(p, '\n') ? strchr(p, '\n') + 1 : NULL)
        lines[count++] = p;
    for (size_t i = 1; i < count; i++)
        lines[i][-1] = 0;
    for (size_t i = 0; i < count; i++) {
        bool has = !begins_declaration(lines[i]) || strstr(lines[i], "/*") ||
                   (i + 1 < count && *lines[i + 1] == ' ' && strstr(lines[i + 1], "/*"));
        for (size_t k = i; k && !has && *lines[k - 1]; k--)
            has = has_comment_end(lines[k - 1]);
        if (!has)
            fprintf(stderr, "\n%s: %s\n", path, lines[i]);
        CU_ASSERT(has);
    }
    free(text);
}

static void walk_headers(const char *folder) {
    DIR *d = opendir(folder);
    CU_ASSERT_PTR_NOT_NULL_FATAL(d);
    for (struct dirent *e; (e = readdir(d));) {
        struct stat st;
        const char *inner = keep(path_in(folder, "%s", e->d_name));
        size_t n = strlen(inner);
        if (e->d_name[0] == '.' || stat(inner, &st))
            continue;
        if (S_ISDIR(st.st_mode))
            walk_headers(inner);
        else if (strcmp(inner + n - 2, ".h") == 0)
            look_for_contracts(inner);
    }
    closedir(d);
}

static void headers_state_their_contracts(void) {
    walk_headers(keep(path_in(MOSAICUM_SOURCE, "src")));
    walk_headers(keep(path_in(MOSAICUM_SOURCE, "include")));
}

/* ---- no circle of files ---- */

enum { MOST_FILES = 600, MOST_SYMBOLS = 6000 };

static struct {
    char *names[MOST_FILES];
    size_t count;
    bool uses[MOST_FILES][MOST_FILES];
} files;

static struct {
    char *name;
    size_t file;
} defined[MOST_SYMBOLS], wanted[MOST_FILES * 60];

static size_t file_number(const char *name, size_t length) {
    for (size_t i = 0; i < files.count; i++)
        if (strlen(files.names[i]) == length && strncmp(files.names[i], name, length) == 0)
            return i;
    CU_ASSERT_FATAL(files.count < MOST_FILES);
    files.names[files.count] = strndup(name, length);
    return files.count++;
}

static int by_symbol(const void *a, const void *b) {
    const struct {
        char *name;
        size_t file;
    } *x = a, *y = b;
    return strcmp(x->name, y->name);
}

/* What each compiled file defines and wants, as the linker sees it: "./fs/fs.c.o: … T mos_fs_at".
 */
static size_t read_symbols(char *text, size_t *uses) {
    size_t symbols = 0;
    for (char *line = strtok(text, "\n"); line; line = strtok(NULL, "\n")) {
        const char *colon = strchr(line, ':'), *name = strrchr(line, ' ');
        if (!colon || !name || name - line < 2)
            continue;
        size_t file = file_number(line, (size_t)(colon - line));
        char kind = name[-1];
        if (strchr("TDBR", kind)) {
            CU_ASSERT_FATAL(symbols < MOST_SYMBOLS);
            defined[symbols].name = strdup(name + 1);
            defined[symbols++].file = file;
        } else if (kind == 'U') {
            CU_ASSERT_FATAL(*uses < sizeof wanted / sizeof *wanted);
            wanted[*uses].name = strdup(name + 1);
            wanted[(*uses)++].file = file;
        }
    }
    return symbols;
}

static void no_files_use_each_other(void) {
    char *build = strdup(MOSAICUM_PROGRAM);
    *strrchr(build, '/') = 0;
    struct outcome o = run_shell(
        "cd '%s/CMakeFiles/mosaicum-objects.dir/src' && find . -name '*.o' | xargs nm -A", build);
    size_t uses = 0, symbols = read_symbols(o.out, &uses);
    CU_ASSERT_FATAL(o.status == 0 && files.count > 200 && symbols > 700 && uses > 3000);
    qsort(defined, symbols, sizeof *defined, by_symbol);
    for (size_t i = 0; i < uses; i++) {
        const void *d = bsearch(&wanted[i], defined, symbols, sizeof *defined, by_symbol);
        size_t to = d ? (size_t)(((const char *)d - (const char *)defined) / sizeof *defined) : 0;
        if (d && defined[to].file != wanted[i].file)
            files.uses[wanted[i].file][defined[to].file] = true;
    }
    for (size_t k = 0; k < files.count; k++) /* everything that can be reached */
        for (size_t i = 0; i < files.count; i++)
            for (size_t j = 0; files.uses[i][k] && j < files.count; j++)
                files.uses[i][j] |= files.uses[k][j];
    for (size_t i = 0; i < files.count; i++) {
        if (files.uses[i][i])
            fprintf(stderr, "\n%s is part of a circle of files\n", files.names[i]);
        CU_ASSERT(!files.uses[i][i]);
    }
    outcome_free(&o);
    free(build);
}

/* The schema says of every key what it may be, and every reference leads somewhere. */
static void walk_schema(const json_t *all, const json_t *at, unsigned *references,
                        unsigned *patterns) {
    const json_t *child;
    const char *key;
    size_t i;
    if (json_is_array(at))
        json_array_foreach(at, i, child) walk_schema(all, child, references, patterns);
    if (!json_is_object(at))
        return;
    const char *target = json_string_value(json_object_get(at, "$ref"));
    if (target) {
        CU_ASSERT(strncmp(target, "#/$defs/", 8) == 0 &&
                  json_object_get(json_object_get(all, "$defs"), target + 8) != NULL);
        ++*references;
    }
    *patterns += json_is_string(json_object_get(at, "pattern"));
    if (json_object_get(at, "description"))
        CU_ASSERT(json_object_size((json_t *)(uintptr_t)at) > 1);
    json_object_foreach((json_t *)(uintptr_t)at, key, child) {
        walk_schema(all, child, references, patterns);
        if (strcmp(key, "additionalProperties") == 0)
            CU_ASSERT(!json_is_object(child) || json_object_size(child) > 0);
    }
}

static void the_schema_is_whole(void) {
    unsigned references = 0, patterns = 0;
    json_t *d = json_load_file(MOSAICUM_SCHEMA, JSON_REJECT_DUPLICATES, NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(d);
    walk_schema(d, d, &references, &patterns);
    CU_ASSERT(references > json_object_size(json_object_get(d, "$defs")) && patterns > 50);
    json_decref(d);
}

SUITE(structure_suite, {"the schema is whole", the_schema_is_whole},
      {"includes follow the table, only cli prints", includes_follow_the_table},
      {"every folder is in the table", no_folder_is_outside_the_table},
      {"drivers keep to themselves", drivers_keep_to_themselves},
      {"headers state their contracts", headers_state_their_contracts},
      {"no files use each other", no_files_use_each_other});
