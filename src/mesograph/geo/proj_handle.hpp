#pragma once

#include <proj.h>
#include <proj_experimental.h>  // promotion to 3D and compound CRSs

#include <memory>

namespace mesograph::geo {

// PROJ objects that clean up after themselves. A context, and what was made with it, belongs to one thread.
struct ContextDelete {
  void operator()(PJ_CONTEXT* context) const { proj_context_destroy(context); }
};
struct PjDelete {
  void operator()(PJ* pj) const { proj_destroy(pj); }
};
struct PjListDelete {
  void operator()(PJ_OBJ_LIST* list) const { proj_list_destroy(list); }
};
using Context = std::unique_ptr<PJ_CONTEXT, ContextDelete>;
using Pj = std::unique_ptr<PJ, PjDelete>;
using PjList = std::unique_ptr<PJ_OBJ_LIST, PjListDelete>;

/// A context without network and without PROJ's own messages on stderr.
Context make_context();

}  // namespace mesograph::geo
