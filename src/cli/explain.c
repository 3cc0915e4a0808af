#include "cli/cli.h"

#include <jansson.h>
#include <string.h>

/* What the rules of a family are about; a test holds each family to its row. */
static const struct {
    const char *name, *about;
} families[] = {{"access", "who can log in, and which secrets lie open"},
                {"board", "the definition itself: references, names, waivers"},
                {"boot", "what is started, in which order and with which arguments"},
                {"budget", "size limits"},
                {"console", "loader, kernel and system speak on the same port"},
                {"kernel", "its configuration, format and modules"},
                {"layout", "what lies where on each medium"},
                {"loader", "how the loader was built, and its variables"},
                {"piece", "files from outside"},
                {"ram", "what lies over what in memory"},
                {"start", "the boot, tried in the simulator"},
                {"tree", "device trees and overlays"},
                {"volume", "file systems and what they hold"},
                {"write", "which device may be written, and what comes back"}};
enum { FAMILIES = sizeof families / sizeof *families };

static bool is_of_family(const struct mosaicum_rule *rule, const char *family) {
    size_t n = strlen(family);
    return strncmp(rule->id, family, n) == 0 && rule->id[n] == '.';
}

static size_t count_family(const char *family) {
    const struct mosaicum_rule *rules;
    size_t count = mosaicum_rules(&rules), n = 0;
    for (size_t i = 0; i < count; i++)
        n += is_of_family(&rules[i], family);
    return n;
}

static void list_families(struct cli *cli) {
    const struct mosaicum_rule *rules;
    fprintf(to_out, "%zu rules in %d families; mosaicum explain FAMILY lists them:\n\n",
            mosaicum_rules(&rules), FAMILIES);
    for (size_t i = 0; i < FAMILIES; i++)
        fprintf(to_out, "%s%-8s%s  %3zu  %s\n", style(cli, STYLE_STRONG), families[i].name,
                style(cli, STYLE_END), count_family(families[i].name), families[i].about);
}

static void list_rules(struct cli *cli, const char *family) {
    const struct mosaicum_rule *rules;
    size_t count = mosaicum_rules(&rules);
    for (size_t i = 0; i < count; i++)
        if (is_of_family(&rules[i], family))
            fprintf(to_out, "%s%-22s%s  %-8s %s\n", style(cli, STYLE_STRONG), rules[i].id,
                    style(cli, STYLE_END), rules[i].severity, rules[i].title);
}

/* Every symptom, in the order of a boot. */
static void list_symptoms(struct cli *cli) {
    const struct mosaicum_symptom *all;
    size_t count = mosaicum_symptoms(&all);
    const char *stage = "";
    fprintf(to_out, "%zu symptoms of a board that does not come up, as listen tells them:\n",
            count);
    for (size_t i = 0; i < count; i++) {
        if (strcmp(stage, all[i].stage) != 0)
            fprintf(to_out, "\n%s\n", all[i].stage);
        stage = all[i].stage;
        fprintf(to_out, "  %s%-36s%s  %s\n", style(cli, STYLE_STRONG), all[i].id,
                style(cli, STYLE_END), all[i].title);
    }
}

static void put_json(json_t *root) {
    out_json(true);
    json_dumpf(root, to_out, JSON_INDENT(1));
    out_json(false);
    fputc('\n', to_out);
    json_decref(root);
}

static json_t *symptoms_as_json(void) {
    const struct mosaicum_symptom *all;
    size_t count = mosaicum_symptoms(&all);
    json_t *list = json_array();
    for (size_t i = 0; i < count; i++)
        json_array_append_new(list, json_pack("{s:s,s:s,s:s}", "symptom", all[i].id, "stage",
                                              all[i].stage, "title", all[i].title));
    return list;
}

/* The rules of a family, or all, and what is said of a key. */
static void list_as_json(const char *family, const char *keys) {
    const struct mosaicum_rule *rules;
    size_t count = mosaicum_rules(&rules);
    json_t *root = json_pack("{s:i,s:s}", "mosaicum", 1, "command", "explain");
    json_t *list = json_array();
    for (size_t i = 0; i < count; i++)
        if (!family || is_of_family(&rules[i], family))
            json_array_append_new(list, json_pack("{s:s,s:s,s:s}", "rule", rules[i].id, "severity",
                                                  rules[i].severity, "title", rules[i].title));
    json_object_set_new(root, "rules", list);
    if (family && strcmp(family, "symptoms") == 0)
        json_object_set_new(root, "symptoms", symptoms_as_json());
    if (keys)
        json_object_set_new(root, "keys", json_string(keys));
    put_json(root);
}

/* A rule's page. */
static void explain_rule(struct cli *cli, const char *rule, const char *page) {
    if (cli->json)
        put_json(json_pack("{s:i,s:s,s:s,s:s}", "mosaicum", 1, "command", "explain", "rule", rule,
                           "page", page));
    else
        print_markdown(cli, page, to_out);
}

/* What a word may have meant: the nearest rule, family or key. */
static int nobody_knows(struct cli *cli, const char *word, const char *rule, const char *key) {
    const char *names[FAMILIES + 3], *command = command_near(word);
    size_t count = 0;
    for (size_t i = 0; i < FAMILIES; i++)
        names[count++] = families[i].name;
    if (rule)
        names[count++] = rule;
    if (key)
        names[count++] = key;
    if (command)
        names[count++] = command;
    const char *near = mosaicum_near(word, names, count);
    fprintf(to_err, "%smosaicum:%s there is no rule, family or key %s%s%s%s\n",
            style(cli, STYLE_ERROR), style(cli, STYLE_END), word, near ? "; did you mean " : "",
            near ? near : "", near ? "?" : "");
    return MOSAICUM_USAGE;
}

/* A family of rules and a key may share a name: then both are told. */
static int explain_word(struct cli *cli, mosaicum *m, const char *word, const char *near_rule) {
    const char *keys, *near_key;
    bool all = strcmp(word, "keys") == 0;
    size_t rules = all ? 0 : count_family(word);
    int status = (int)(all ? mosaicum_reference(m, &keys)
                           : mosaicum_reference_of(m, word, &keys, &near_key));
    if (status)
        return status;
    if (strcmp(word, "symptoms") == 0 && !cli->json) {
        list_symptoms(cli);
        return MOSAICUM_DONE;
    }
    if (!rules && !keys && strcmp(word, "symptoms") != 0)
        return nobody_knows(cli, word, near_rule, near_key);
    if (cli->json) {
        list_as_json(word, keys);
        return MOSAICUM_DONE;
    }
    if (rules)
        list_rules(cli, word);
    if (keys)
        print_markdown(cli, keys + !rules, to_out);
    return MOSAICUM_DONE;
}

static int run(struct cli *cli) {
    const char *word = cli->argument_count ? cli->arguments[0] : NULL, *near = NULL;
    const char *page = word ? mosaicum_explain(word, &near) : NULL;
    if (!word && cli->json)
        list_as_json(NULL, NULL);
    else if (!word)
        list_families(cli);
    else if (page)
        explain_rule(cli, word, page);
    if (!word || page)
        return MOSAICUM_DONE;
    mosaicum *m = cli_open(cli, false);
    int status = m ? explain_word(cli, m, word, near) : MOSAICUM_SYSTEM;
    mosaicum_free(m);
    return status;
}

const struct command command_explain = {
    .name = "explain",
    .usage = "[RULE|FAMILY|KEY]",
    .about = "what a rule means, with examples; a family of rules, or keys of a definition",
    .details = "A rule has a page with an example that fails and one that passes. A family "
               "is the part before the dot; `keys` are all keys of a definition, and a key "
               "by itself is told wherever it may stand.",
    .examples = "mosaicum explain\n"
                "mosaicum explain layout\n"
                "mosaicum explain layout.overlap\n"
                "mosaicum explain volume\n",
    .most = 1,
    .run = run,
};
