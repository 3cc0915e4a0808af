/* Wrong definitions of every kind: each gets one finding, at the right place, that helps. */
#include "support.h"

#include <stdlib.h>
#include <string.h>
#include <time.h>

struct wrong {
    const char *text; /* behind "mosaicum: 1\nboard: curlew\n" */
    int status;
    const char *rule; /* NULL: nothing is wrong */
    unsigned line, column;
    const char *part; /* of message or remedy */
};

static const struct wrong cases[] = {
    {"hardwear: {}\n", 1, "board.schema", 3, 1, "hardware"},
    {"hardware: {cpu: arm65}\n", 1, "board.schema", 3, 17, "arm64"},
    {"hardware: {cores: two}\n", 1, "board.schema", 3, 19, "whole number"},
    {"hardware: {held: {loader: {top: 40}}}\n", 1, "board.schema", 3, 33, "40 MiB"},
    {"hardware: {held: {loader: {top: 40 MB, top: 1 MB}}}\n", 1, "board.schema", 3, 28, "twice"},
    {"hardware: {ram: {main: {start: 1000, sizes: 1 MiB}}}\n", 1, "board.schema", 3, 32, "0x"},
    {"hardware: {ram: {main: {start: 0x1000}}}\n", 1, "board.schema", 3, 18, "sizes"},
    {"hardware: {console: {port: ttyS0,115200}}\n", 1, "board.schema", 3, 34, "uote"},
    {"hardware: []\n", 1, "board.schema", 3, 1, "needs keys"},
    {"about: &x text\n", 1, "board.schema", 3, 8, "nchor"},
    {"about: *x\n", 1, "board.schema", 3, 8, "alias"},
    {"about: !!str text\n", 1, "board.schema", 3, 8, "ag"},
    {"<<: {}\n", 1, "board.schema", 3, 1, "merge"},
    {"about: text\n---\nabout: more\n", 1, "board.schema", 4, 1, "second document"},
    {"\tabout: text\n", 2, "board.schema", 3, 1, "spaces"},
    {"about: [1, 2\n", 2, "board.schema", 3, 13, "racket"},
    {"about: \"text\n", 2, "board.schema", 3, 13, "uotation"},
    {"about: \xff\n", 2, "board.schema", 3, 8, "UTF-8"},
    {"about: {a: 1}\n", 1, "board.schema", 3, 1, "single value"},
    {"about:\n", 0, NULL, 0, 0, NULL},
    {"pieces: {x: {file: /etc/passwd}}\n", 1, "piece.path", 3, 20, "leaves"},
    {"pieces: {x: {file: a/../../b}}\n", 1, "piece.path", 3, 20, "leaves"},
    {"pieces: {x: {file: mosaicum.yaml, sha256: 12}}\n", 1, "board.schema", 3, 43, "SHA-256"},
    {"kernel: {image: linux}\nboot: {entries: {main: {arguments: {root: /dev/nfs}}}}\n", 1,
     "board.reference", 3, 17, "no piece"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB}}}\nlayout: {card: {table: {kind: mbr, "
     "partition-entries-at: 1 MiB}}}\n",
     1, "board.schema", 4, 58, "cannot move"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB}}}\nlayout: {card: {table: {kind: gpt, "
     "partition-entries-at: 700 B}}}\n",
     1, "board.schema", 4, 58, "behind the header"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB}}}\nlayout: {card: {table: {kind: gpt}, "
     "frozen: none.json}}\n",
     1, "board.schema", 4, 45, "no ledger"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB}}}\nlayout: {card: {table: {kind: gpt}, "
     "regions: {a: {number: 1, size: 8 MiB, volume: {kind: ext4, unit: 3 KiB}}}}}\n",
     1, "board.schema", 4, 102, "doubled"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB}}}\nlayout: {card: {table: {kind: gpt}, "
     "regions: {a: {number: 1, size: 8 MiB, volume: {kind: fat16, unit: 64 KiB}}}}}\n",
     1, "board.schema", 4, 103, "512 bytes to 32 KiB"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB}}}\nlayout: {card: {table: {kind: mbr}, "
     "regions: {a: {number: 65, size: 8 MiB}}}}\n",
     1, "board.schema", 4, 59, "1 to 64"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB}}}\nlayout: {card: {table: {kind: gpt}, "
     "regions: {a: {number: 1, size: 100%}}}}\n",
     1, "board.schema", 4, 68, "share"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB}}}\nlayout: {card: {table: {kind: gpt}, "
     "regions: {a: {number: 1, size: 8 MiB, attributes: 4}}}}\n",
     1, "board.schema", 4, 87, "0x"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB, settings: {reset-pin: yes}}}}\nlayout: "
     "{card: {}}\n",
     1, "board.schema", 3, 51, "no eMMC"},
    {"hardware: {media: {card: {kind: emmc, size: 64 MiB, settings: {bus-width: 3}}}}\nlayout: "
     "{card: {}}\n",
     1, "board.schema", 3, 75, "1, 4 or 8"},
    {"outputs: {card: lzma}\nhardware: {media: {card: {kind: sd, size: 64 MiB}}}\n", 1,
     "board.schema", 3, 17, "gz"},
    {"outputs: {stick: gz}\nhardware: {media: {card: {kind: sd, size: 64 MiB}}}\n", 1,
     "board.reference", 3, 11, "card"},
    {"layout: {card: {}}\n", 1, "board.reference", 3, 10, "medium"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB}}}\npieces: {x: {file: big.bin}}\n"
     "layout: {card: {regions: {a: {at: 1 MiB, size: 1 KiB, piece: x}}}}\n",
     1, "volume.does-not-fit", 5, 48, "does not fit into 1 KiB: it needs"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB}}}\n"
     "layout: {card: {table: {kind: gpt}, regions: {a: {number: 129, size: 1 MiB}}}}\n",
     1, "board.schema", 4, 59, "1 to 128"},
    {"loader: {dialect: u-boat}\n", 1, "board.schema", 3, 19, "u-boot"},

    /* keys, types and units */
    {"hardware: {cpu: no}\n", 1, "board.schema", 3, 17, "cannot be no"},
    {"hardware: {cores: 0x2}\n", 1, "board.schema", 3, 19, "whole number"},
    {"hardware: {cores: -1}\n", 1, "board.schema", 3, 19, "whole number"},
    {"hardware: {cores: 99999999999}\n", 1, "board.schema", 3, 19, "whole number"},
    {"hardware: {cores: [1]}\n", 1, "board.schema", 3, 12, "single value"},
    {"hardware: {cores: }\n", 1, "board.schema", 3, 12, "no value"},
    {"hardware: {media: {card: {kind: sdcard, size: 1 MiB}}}\n", 1, "board.schema", 3, 33, "sd"},
    {"hardware: {media: {card: {kind: sd}}}\n", 1, "board.schema", 3, 20, "lacks the key size"},
    {"hardware: {media: {card: {kind: sd, size: 1 MB, erase: 4 Mib}}}\n", 1, "board.schema", 3, 56,
     "KiB MiB GiB"},
    {"hardware: {media: {card: {kind: sd, size: 99999999999999999999 GiB}}}\n", 1, "board.schema",
     3, 43, "larger than any"},
    {"hardware: {media: {card: {kind: sd, size: 1.5 GiB}}}\n", 1, "board.schema", 3, 43,
     "not a size"},
    {"hardware: {media: [card]}\n", 1, "board.schema", 3, 12, "map of names"},
    {"hardware: {media: {card: sd}}\n", 1, "board.schema", 3, 20, "needs keys"},
    {"hardware: {media: {\"a b\": {kind: sd, size: 1 MiB}}}\n", 1, "board.schema", 3, 20,
     "not a name"},
    {"hardware: {ram: {main: {start: 0x, sizes: 1 MiB}}}\n", 1, "board.schema", 3, 32, "0x"},
    {"hardware: {ram: {main: {start: 0x1, sizes: {a: 1}}}}\n", 1, "board.schema", 3, 37,
     "needs a list"},
    {"hardware: {ram: {main: {start: 0x1, sizes: [1 MiB, 2]}}}\n", 1, "board.schema", 3, 52,
     "no unit"},
    {"loader: {environments: {main: {base: default, size: 1 KiB}}, dialect: u-boot}\n", 1,
     "board.schema", 3, 38, "defaults"},
    {"loader: {environments: {main: {base: none, size: 1 KiB, flag-byte: maybe}}, dialect: "
     "u-boot}\n",
     1, "board.schema", 3, 68, "yes, no"},
    {"loader: {environments: {main: {base: none, size: 1 KiB, values: {a: {b: c}}}}, dialect: "
     "u-boot}\n",
     1, "board.schema", 3, 70, "key b is not known"},
    {"loader: {environments: {main: {base: none, size: 1 KiB, values: {\"a=b\": c}}}, dialect: "
     "u-boot}\n",
     1, "board.schema", 3, 66, "not a name"},
    {"budgets: {x: {of: [y], limit: 120%}}\npieces: {y: {file: big.bin}}\n", 1, "board.schema", 3,
     31, "99%"},
    {"budgets: {x: {limit: 1 MiB}}\n", 1, "board.schema", 3, 11, "lacks the key of"},
    {"waivers: {w: {rule: layout.overlap, place: x, reason: y, until: 2026-13-01}}\n", 1,
     "board.schema", 3, 65, "not a date"},
    {"waivers: {w: {rule: layout.overlap, place: x}}\n", 1, "board.schema", 3, 11, "reason"},
    {"pieces: {x: {in: y}}\n", 1, "board.reference", 3, 18, "no piece y"},
    {"pieces: {x: {}}\n", 1, "board.schema", 3, 10, "needs either"},
    {"pieces: {x: {file: big.bin, sha256: ABC}}\n", 1, "board.schema", 3, 37, "64 digits"},
    {"pieces: {x: {made-by: {inputs: [a]}}}\n", 1, "board.schema", 3, 14, "lacks the key run"},
    {"mosaicum: 2\n", 1, "board.schema", 1, 1, "twice"},
    {"boot: {via: menus}\n", 1, "board.schema", 3, 13, "script"},
    {"tree: {blobs: {main: {}}}\n", 1, "board.schema", 3, 16, "needs either"},
    {"system: {log-in: by-hand}\n", 1, "board.schema", 3, 18, "inittab"},
    {"system: {users: {root: {number: root}}}\n", 1, "board.schema", 3, 33, "whole number"},
    {"features: {}\nfeatures: {}\n", 1, "board.schema", 3, 1, "twice"},
    {"hardware: {media: {card: {kind: sd, size: 64 MiB}}}\nrom: {first-stage: {card: {limit: 64 "
     "KiB}}}\n"
     "pieces: {x: {file: big.bin}}\nstages: {a: {piece: x, by: rom}}\n"
     "layout: {card: {regions: {a: {size: 64 KiB, stage: a}}}}\n",
     1, "board.schema", 4, 21, "ends-at-top"},
    /* YAML */
    {"about: a: b\n", 2, "board.schema", 3, 9, "line of its own"},
    {"about: 'text\n", 2, "board.schema", 3, 13, "uotation"},
    {"about: {a: 1\n", 2, "board.schema", 3, 13, "racket"},
    {"about: ]\n", 2, "board.schema", 3, 8, "racket"},
    {"about: @text\n", 2, "board.schema", 3, 8, "quote"},
    {"about: `text`\n", 2, "board.schema", 3, 8, "quote"},
    {"about: %text\n", 2, "board.schema", 3, 8, "quote"},
    {"  about: text\n", 2, "board.schema", 3, 8, "line of its own"},
    {"about: a\n  b: c\n", 2, "board.schema", 4, 4, "line of its own"},
    {"- about\n", 2, "board.schema", 3, 1, "ndentation"},
    {"? [a]\n: b\n", 1, "board.schema", 3, 3, "plain name"},
    {"hardware: !tag {cpu: arm64}\n", 1, "board.schema", 3, 11, "ag"},
    {"hardware: &h {cpu: arm64}\n", 1, "board.schema", 3, 11, "nchor"},
    {"about: \"\\0\"\n", 1, "board.schema", 3, 8, "NUL"},
    {"about: a\n...\nabout: b\n", 2, "board.schema", 5, 1, "document start"},
    {"about: \x01\n", 2, "board.schema", 3, 8, "UTF-8"},
    {"about: \xc3\n", 2, "board.schema", 3, 8, "UTF-8"},
    {"hardware: {console: {port: ttyS0, baud: 115200,8n1}}\n", 1, "board.schema", 3, 48, "uote"},
    {"system: {mounts: {data: {at: /data, options: rw,noatime}}}\n", 1, "board.schema", 3, 49,
     "uote"},
    /* references */
    {"stages: {a: {piece: kernle}}\npieces: {kernel: {file: big.bin}}\n", 1, "board.reference", 3,
     21, "kernel"},
    {"stages: {a: {piece: x, by: romm}}\npieces: {x: {file: big.bin}}\n", 1, "board.reference", 3,
     28, "no stage romm"},
    {"rom: {order: [card]}\n", 1, "board.reference", 3, 15, "no medium"},
    {"rom: {first-stage: {card: {at: 1 KiB}}}\n", 1, "board.reference", 3, 21, "no medium"},
    {"budgets: {b: {of: [x], limit: 1 MiB}}\n", 1, "board.reference", 3, 20, "no piece or region"},
    {"budgets: {b: {of: [x], limit: 50%}}\npieces: {x: {file: big.bin}}\n", 1, "board.schema", 3,
     31, "counts no region"},
    {"waivers: {w: {rule: layout.overlpa, place: x, reason: y}}\n", 1, "board.reference", 3, 21,
     "layout.overlap"},
    {"pieces: {x: {file: big.bin}}\nstages: {x: {piece: z}}\n", 1, "board.reference", 4, 21,
     "no piece z"},
    {"pieces: {a: {ramdisk: {files: {}}}, b: {in: a, path: x}, c: {in: b, path: y}}\n", 1,
     "board.reference", 3, 45, "which is made here"},
    {"pieces: {a: {in: a, path: x}}\n", 1, "board.reference", 3, 18, "lies in a again"},
    {"features: [presure]\n", 1, "board.reference", 3, 12, "pressure"},
    {"features: [pressure, \"a b\"]\n", 1, "board.schema", 3, 22, "not a name"},
    /* traits, variants, removals and moves */
    {"traits: [soc/tern46]\n", 1, "board.trait-missing", 3, 10, "soc/tern64"},
    {"traits: [../secret]\n", 1, "piece.path", 3, 10, "leaves"},
    {"traits: {soc: tern64}\n", 1, "board.schema", 3, 1, "needs a list"},
    {"traits: [site/round]\n", 1, "board.trait-cycle", 3, 10, "uses itself"},
    {"traits: [soc/tern64, site/slow]\n", 1, "board.trait-clash", 3, 43, "115200 and 9600"},
    {"traits: [soc/tern64]\nhardware: {~consol: }\n", 1, "board.schema", 4, 12, "console"},
    {"hardware: {~console: }\n", 1, "board.reference", 3, 12, "no console to remove"},
    {"hardware: {~consoles: }\n", 1, "board.schema", 3, 12, "console"},
    {"pieces: {~x: }\n", 1, "board.reference", 3, 10, "no x to remove"},
    {"loader: {environments: {main: {base: none, size: 1 KiB, values: {a: {value: 1, after: "
     "b}}}}, dialect: u-boot}\n",
     1, "board.reference", 3, 87, "no b beside a"},
    {"loader: {environments: {main: {base: none, size: 1 KiB, values: {a: {value: 1, after: b}, "
     "b: {value: 1, before: a}}}}, dialect: u-boot}\n",
     1, "board.reference", 3, 87, "circle"},
    {"variants: {bench: {axis: use, purpose: work}}\n", 1, "board.schema", 3, 40, "bench"},
    {"variants: {bench: {axis: use, hardwear: {}}}\n", 1, "board.schema", 3, 31, "hardware"},
    {"variants: {bench: {axis: use, hardware: {cores: two}}}\n", 1, "board.schema", 3, 49,
     "whole number"},
    {"variants: {bench: {traits: [soc/nothing]}}\n", 1, "board.trait-missing", 3, 29,
     "no trait soc/nothing"},
    {"variants: {a: {axis: x, hardware: {cores: 1}}, b: {axis: y, hardware: {cores: 2}}}\n", 1,
     "board.trait-clash", 3, 43, "1 and 2"},
    {"variants: {bench: {pieces: {~x: }}}\n", 1, "board.reference", 3, 29, "no x to remove"},
};

/* Traits and features that some of the cases take on. */
static const char *const parts[][2] = {
    {"mosaicum.yaml", "mosaicum: 1\nworkspace: saltmarsh-survey\n"},
    {"traits/soc/tern64.yaml",
     "mosaicum: 1\ntrait: soc/tern64\nhardware: {console: {port: ttyAMA0, baud: 115200}}\n"},
    {"traits/site/slow.yaml",
     "mosaicum: 1\ntrait: site/slow\nhardware: {console: {port: ttyAMA0, baud: 9600}}\n"},
    {"traits/site/round.yaml", "mosaicum: 1\ntrait: site/round\ntraits: [site/round]\n"},
    {"features/pressure.yaml", "mosaicum: 1\nfeature: pressure\n"},
};

static char *workspace(const char *name) {
    static const char big[2000] = "a program";
    char *w = test_folder(name);
    write_file(path_in(w, "big.bin"), big, sizeof big);
    for (size_t i = 0; i < sizeof parts / sizeof *parts; i++)
        write_text(path_in(w, "%s", parts[i][0]), parts[i][1]);
    return w;
}

static bool is_at(const json_t *finding, const struct wrong *c) {
    json_t *p = json_array_get(json_object_get(finding, "places"), 0);
    char *whole = json_dumps(finding, JSON_ENSURE_ASCII);
    bool good = strcmp(json_string_value(json_object_get(finding, "rule")), c->rule) == 0 &&
                json_integer_value(json_object_get(p, "line")) == c->line &&
                json_integer_value(json_object_get(p, "column")) == c->column &&
                strstr(whole, c->part);
    free(whole);
    return good;
}

static void wrong_definitions_are_explained(void) {
    const char *w = workspace("wrong");
    CU_ASSERT(sizeof cases / sizeof *cases >= 80);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char text[512];
        int status;
        snprintf(text, sizeof text, "mosaicum: 1\nboard: curlew\n%s", cases[i].text);
        write_text(path_in(w, "boards/curlew.yaml"), text);
        json_t *d = run_json(&status, "-w '%s' check", w), *list = json_object_get(d, "findings");
        bool good = status == cases[i].status && json_array_size(list) == (cases[i].rule != NULL) &&
                    (!cases[i].rule || is_at(json_array_get(list, 0), &cases[i]));
        if (!good) {
            char *whole = json_dumps(d, 0);
            fprintf(stderr, "\n%s-> %d %s\n", cases[i].text, status, whole);
            CU_FAIL("a wrong definition");
            free(whole);
        }
        json_decref(d);
    }
}

/* Text of `count` times `part`, where %zu stands for its number. */
static char *repeated(const char *part, size_t count) {
    const char *number = strstr(part, "%zu");
    size_t most = strlen(part) + 20, length = 0;
    char *text = malloc(most * count + 1);
    for (size_t i = 0; i < count; i++)
        length += (size_t)(number ? sprintf(text + length, "%.*s%zu%s", (int)(number - part), part,
                                            i, number + 3)
                                  : sprintf(text + length, "%s", part));
    return text;
}

/* Nothing takes over a second, however deep, long or large. */
static void deep_and_large_files_are_refused(void) {
    static const char regions[] =
        "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 1 GiB}}}\n"
        "layout:\n  card:\n    regions:\n";
    static const struct {
        const char *head, *part;
        size_t count;
        int status;
    } hard[] = {
        {regions, "      r%zu: {at: 64 KiB, size: 4 KiB}\n", 3900, 1},
        {"", "[", 100000, 2},
        {"", "{", 100000, 2},
        {"about: ", "[", 100000, 2},
        {"mosaicum: 1\nboard: curlew\nabout: ", "{a: ", 900, 2},
        {"", "#", 5 << 20, 2},
        {"mosaicum: 1\nboard: curlew\nabout: ", "x", 4000000, 0},
        {"mosaicum: 1\nboard: curlew\n", "pieces: {}\n", 3000, 1},
        {"mosaicum: 1\nboard: curlew\nabout: \"", "\\x41", 800000, 2},
        {"mosaicum: 1\nboard: curlew\nfeatures: [", "a, ", 50000, 2},
        {"", "\t", 100000, 2},
        {"", "- ", 100000, 2},
        {"", "&a ", 50000, 2},
        {"", "\xff", 1000, 2},
        {"", "--- \n", 20000, 1},
        {"mosaicum: 1\nboard: curlew\npieces:\n", "  x: y\n", 40000, 1},
    };
    const char *w = workspace("deep");
    for (size_t i = 0; i < sizeof hard / sizeof *hard; i++) {
        char *tail = repeated(hard[i].part, hard[i].count), *text;
        struct timespec from, to;
        size_t n = strlen(hard[i].head), length = n + strlen(tail);
        text = malloc(length + 1);
        memcpy(text, hard[i].head, n);
        memcpy(text + n, tail, length - n + 1);
        write_file(path_in(w, "boards/curlew.yaml"), text, length);
        clock_gettime(CLOCK_MONOTONIC, &from);
        struct outcome o = run_shell("timeout 60 '%s' --no-cache -w '%s' check | head -c 2000",
                                     MOSAICUM_PROGRAM, w);
        clock_gettime(CLOCK_MONOTONIC, &to);
        outcome_free(&o);
        o = run_shell("timeout 60 '%s' --no-cache -q -w '%s' check > '%s/text'", MOSAICUM_PROGRAM,
                      w, w);
        if (o.status != hard[i].status)
            fprintf(stderr, "\n%s%.20s…: %d %s\n", hard[i].head, tail, o.status, o.err);
        CU_ASSERT_EQUAL(o.status, hard[i].status);
        /* not a timed test: far above what it takes, far below what a quadratic loop would */
        CU_ASSERT(to.tv_sec - from.tv_sec < 20);
        outcome_free(&o);
        free(tail);
        free(text);
    }
}

SUITE(wrong_suite, {"wrong definitions are explained", wrong_definitions_are_explained},
      {"deep and large files are refused", deep_and_large_files_are_refused});
