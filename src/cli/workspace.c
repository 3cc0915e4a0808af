#include "cli/cli.h"
#include "platform/platform.h"

#include <limits.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* The nearest folder above (or here) that holds mosaicum.yaml. */
static char *walk_up(void) {
    if (access("mosaicum.yaml", F_OK) == 0)
        return strdup("."); /* so that paths are shown as one would type them */
    char *here = getcwd(NULL, 0), path[PATH_MAX];
    while (here) {
        snprintf(path, sizeof path, "%s/mosaicum.yaml", here);
        if (access(path, F_OK) == 0)
            return here;
        char *slash = strrchr(here, '/');
        if (!slash || here[1] == 0)
            break;
        slash[slash == here] = 0;
    }
    free(here);
    return NULL;
}

/* The user's cache folder: XDG_CACHE_HOME or ~/.cache; NULL: there is none. */
static char *cache_folder(void) {
    const char *base = getenv("XDG_CACHE_HOME"), *home = getenv("HOME");
    char path[PATH_MAX];
    if (base && *base == '/')
        snprintf(path, sizeof path, "%s/mosaicum", base);
    else if (home && *home == '/')
        snprintf(path, sizeof path, "%s/.cache/mosaicum", home);
    else
        return NULL;
    return strdup(path);
}

const char *cli_find_workspace(void) {
    static char *found; /* as long as the program runs */
    if (!found)
        found = walk_up();
    return found;
}

static bool put_out(void *self, const void *bytes, size_t length) {
    (void)self;
    return out_bytes(bytes, length);
}

mosaicum *cli_open(struct cli *cli, bool needs_workspace) {
    static char *cache; /* as long as the program runs */
    if (needs_workspace && !cli->workspace) {
        cli->workspace = cli_find_workspace();
        if (!cli->workspace) {
            fprintf(to_err,
                    "%smosaicum:%s there is no mosaicum.yaml here or above\n"
                    "Go into a workspace, or name it: mosaicum -w DIR …\n",
                    style(cli, STYLE_ERROR), style(cli, STYLE_END));
            return NULL;
        }
    }
    if (!cli->no_cache && !cache)
        cache = cache_folder();
    struct mosaicum_options o = {.host = mos_platform_host(),
                                 .workspace = cli->workspace,
                                 .cache_folder = cli->no_cache ? NULL : cache,
                                 .no_run = cli->no_run,
                                 .strict = cli->strict,
                                 .verify = cli->verify,
                                 .sha256 = cli->sha256,
                                 .stream = put_out,
                                 .expand_to = cli->expand_to,
                                 .progress = !cli->quiet && isatty(2) ? progress : NULL};
    mosaicum *m = mosaicum_new(&o);
    if (!m)
        fprintf(to_err, "mosaicum: there is not enough memory\n");
    return m;
}
