/* A NETCONF server over libnetconf2 and libyang, for one session on standard input and output: netconf2 DATA.xml YANG-FOLDER USER.
   It writes what is in force; framing, messages and the model are the libraries', who looks and who changes is decided here.
   Sessions share the file DATA.xml and a lock beside it. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <libyang/libyang.h>
#include <nc_server.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <unistd.h>

static struct ly_ctx *ctx;
static const char *file;
static int lock_file = -1;

static struct lyd_node *load(void) {
  struct lyd_node *tree = NULL;
  if (lyd_parse_data_path(ctx, file, LYD_XML, LYD_PARSE_STRICT, LYD_VALIDATE_PRESENT, &tree)) exit(3);
  return tree;
}

/* A whole new file in place of the old one. */
static int save(struct lyd_node *tree) {
  char path[4096];
  snprintf(path, sizeof path, "%s.%d", file, (int)getpid());
  return lyd_print_path(path, tree, LYD_XML, 0) || rename(path, file);
}

static struct lyd_node *inner(const struct lyd_node *parent, const char *name) {
  struct lyd_node *child;
  LY_LIST_FOR(lyd_child(parent), child) if (!strcmp(LYD_NAME(child), name)) return child;
  return NULL;
}

static void remove_all(struct lyd_node *tree, const char *path) {
  struct ly_set *found = NULL;
  if (lyd_find_xpath(tree, path, &found)) exit(4);
  for (uint32_t i = 0; i < found->count; i++) lyd_free_tree(found->dnodes[i]);
  ly_set_free(found, NULL);
}

static struct nc_server_reply *refuse(struct lyd_node *error) { return nc_server_reply_err(error); }

/* Passwords are shown to nobody who does not ask for them, and other accounts to nobody who names one. */
static struct nc_server_reply *get_config(struct lyd_node *rpc) {
  struct lyd_node *filter = inner(rpc, "filter"), *tree = load(), *data = NULL;
  char *text = NULL, path[512];
  if (!filter || lyd_any_value_str(filter, &text)) return refuse(nc_err(ctx, NC_ERR_MISSING_ELEM, NC_ERR_TYPE_PROT, "filter"));
  if (!strstr(text, "<password")) remove_all(tree, "/ietf-system:system/authentication/user/password");
  char *name = strstr(text, "<name>"), *end = name ? strchr(name + 6, '<') : NULL;
  if (end) {
    snprintf(path, sizeof path, "/ietf-system:system/authentication/user[name!='%.*s']", (int)(end - name - 6), name + 6);
    remove_all(tree, path);
  }
  free(text);
  if (lyd_new_path2(NULL, ctx, "/ietf-netconf:get-config/data", tree, 0, LYD_ANYDATA_DATATREE, LYD_NEW_PATH_OUTPUT, &data, NULL)) exit(5);
  return nc_server_reply_data(data, NC_WD_EXPLICIT, NC_PARAMTYPE_FREE);
}

static const char *operation(const struct lyd_node *node) {
  const struct lyd_meta *meta = lyd_find_meta(node->meta, NULL, "ietf-netconf:operation");
  return meta ? lyd_get_meta_value(meta) : "merge";
}

/* One place of an account, in the tree. */
static struct lyd_node *edit_key(struct lyd_node *key, struct lyd_node *user) {
  const char *name = lyd_get_value(inner(key, "name")), *what = operation(key);
  struct lyd_node *own = NULL, *child;
  LY_LIST_FOR(lyd_child(user), child)
  if (!strcmp(LYD_NAME(child), "authorized-key") && !strcmp(lyd_get_value(inner(child, "name")), name)) own = child;
  if (!strcmp(what, "delete")) {
    if (!own) return nc_err(ctx, NC_ERR_DATA_MISSING);
    lyd_free_tree(own);
    return NULL;
  }
  if (strcmp(what, "create")) return nc_err(ctx, NC_ERR_OP_NOT_SUPPORTED, NC_ERR_TYPE_PROT);
  if (own) return nc_err(ctx, NC_ERR_DATA_EXISTS);
  if (lyd_dup_single(key, (struct lyd_node_inner *)user, LYD_DUP_RECURSIVE | LYD_DUP_NO_META, NULL)) exit(6);
  return NULL;
}

static struct nc_server_reply *edit_config(struct lyd_node *rpc) {
  struct lyd_node *config = inner(rpc, "config"), *edit = NULL, *tree = load(), *error = NULL, *users, *user, *key;
  char *text = NULL;
  if (!config || lyd_any_value_str(config, &text) || lyd_parse_data_mem(ctx, text, LYD_XML, LYD_PARSE_ONLY | LYD_PARSE_STRICT, 0, &edit) || !edit)
    return refuse(nc_err(ctx, NC_ERR_INVALID_VALUE, NC_ERR_TYPE_PROT));
  free(text);
  users = inner(edit, "authentication");
  LY_LIST_FOR(lyd_child(users), user) {
    struct lyd_node *own = NULL, *other;
    LY_LIST_FOR(lyd_child(inner(tree, "authentication")), other)
    if (!strcmp(LYD_NAME(other), "user") && !strcmp(lyd_get_value(inner(other, "name")), lyd_get_value(inner(user, "name")))) own = other;
    if (!own) error = nc_err(ctx, NC_ERR_DATA_MISSING);
    LY_LIST_FOR(lyd_child(user), key) {
      if (error) break;
      if (!strcmp(LYD_NAME(key), "authorized-key")) error = edit_key(key, own);
    }
    if (error) break;
  }
  /* All of it or nothing. */
  if (!error && lyd_validate_all(&tree, ctx, LYD_VALIDATE_PRESENT, NULL)) error = nc_err(ctx, NC_ERR_INVALID_VALUE, NC_ERR_TYPE_APP);
  if (!error && save(tree)) error = nc_err(ctx, NC_ERR_OP_FAILED, NC_ERR_TYPE_APP);
  lyd_free_all(edit);
  lyd_free_all(tree);
  return error ? refuse(error) : nc_server_reply_ok();
}

static struct nc_server_reply *answer(struct lyd_node *rpc, struct nc_session *session) {
  const char *name = LYD_NAME(rpc);
  if (!strcmp(name, "get-config")) return get_config(rpc);
  if (!strcmp(name, "edit-config")) return edit_config(rpc);
  if (!strcmp(name, "lock"))
    return flock(lock_file, LOCK_EX | LOCK_NB) ? refuse(nc_err(ctx, NC_ERR_LOCK_DENIED, (uint32_t)0)) : nc_server_reply_ok();
  if (!strcmp(name, "unlock")) {
    flock(lock_file, LOCK_UN);
    return nc_server_reply_ok();
  }
  (void)session;
  return refuse(nc_err(ctx, NC_ERR_OP_NOT_SUPPORTED, NC_ERR_TYPE_PROT));
}

int main(int argc, char **argv) {
  if (argc != 4) return 2;
  file = argv[1];
  char path[4096];
  snprintf(path, sizeof path, "%s.lock", file);
  lock_file = open(path, O_CREAT | O_RDWR | O_CLOEXEC, 0600);
  const char *base[] = {"writable-running", "rollback-on-error", "validate", NULL};
  const char *own[] = {"authentication", "local-users", NULL};
  if (ly_ctx_new(argv[2], LY_CTX_NO_YANGLIBRARY, &ctx)) return 7;
  if (!ly_ctx_load_module(ctx, "ietf-netconf", NULL, base) || !ly_ctx_load_module(ctx, "ietf-system", NULL, own)) return 8;
  if (nc_server_init(ctx)) return 9;
  nc_set_global_rpc_clb(answer);
  struct nc_session *session;
  if (nc_accept_inout(0, 1, argv[3], &session) != NC_MSG_HELLO) return 10;
  struct nc_pollsession *sessions = nc_ps_new();
  nc_ps_add_session(sessions, session);
  int told;
  do told = nc_ps_poll(sessions, 1000, NULL);
  while (!(told & NC_PSPOLL_SESSION_TERM));
  nc_ps_clear(sessions, 1, NULL);
  nc_ps_free(sessions);
  nc_server_destroy();
  return 0;
}
