#include "edits.h"

#include <string.h>

const char *edits_workspace(const char *name, const char *fixture) {
    const char *w = keep(test_folder(name));
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/%s/passes", fixture), w);
    return w;
}

void edits_make(const char *w, const char *expression) {
    if (*expression)
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "cp '%s/boards/curlew.yaml' '%s/before' && sed -Ei '%s' "
                                  "'%s/boards/curlew.yaml' && ! cmp -s '%s/before' "
                                  "'%s/boards/curlew.yaml'",
                                  w, w, expression, w, w, w));
}

void edits_each(const char *name, const char *(*make)(const char *name), const struct edited *rows,
                size_t count) {
    for (size_t i = 0; i < count; i++) {
        const char *w = make(name);
        edits_make(w, rows[i].edit);
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
        bool good = rows[i].says ? strstr(o.out, rows[i].rule) && strstr(o.out, rows[i].says) &&
                                       strstr(o.out, rows[i].remedy)
                                 : strncmp(o.out, "Nothing to complain", 19) == 0;
        if (!good)
            fprintf(stderr, "\n%s, edit %zu (%s):\n%s%s\n", name, i, rows[i].edit, o.out, o.err);
        CU_ASSERT(good);
        outcome_free(&o);
    }
}
