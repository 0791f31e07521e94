-- Starts `bastide editor` for policy files, and for the manifest and tables of an estate (Neovim 0.7 and later).
-- Put this file into `lua/` of your configuration, and write `require("bastide").setup()` into `init.lua`.
local M = {}

M.program = { "bastide", "editor" }

--- The folder of the estate that a file belongs to.
local function root(file)
  local found = vim.fn.findfile("bastide.toml", vim.fn.fnamemodify(file, ":p:h") .. ";")
  return found ~= "" and vim.fn.fnamemodify(found, ":p:h") or nil
end

--- Colours, for as long as the editor does not ask the service for them.
local function colours()
  vim.cmd([[
    syntax clear
    syntax iskeyword @,48-57,_,-,.,192-255
    syntax match bastideComment "#.*$"
    syntax region bastideText start=+"+ skip=+\\.+ end=+"+ oneline
    syntax keyword bastideDeclaration kind action type attribute role group rule apart alike persona waive expect guarantee
    syntax keyword bastideClause because layer who what while where from until can cannot reaches session has only none
    syntax keyword bastideClause needs holders in on of by is at under below member members default inherit highest
    syntax keyword bastideClause required caseless locked off exactly least most
    syntax keyword bastideModality may not always never
    syntax keyword bastideWord and or like overlaps covers holds anyone owner everything anything self parent source today
    syntax match bastideMember "\<\(user\|resource\|session\)\(\.[^ ,()=<>!]\+\)\+"
    syntax match bastideNumber "\<\d[0-9.-]*\>"
    highlight default link bastideComment Comment
    highlight default link bastideText String
    highlight default link bastideDeclaration Structure
    highlight default link bastideClause Statement
    highlight default link bastideModality Type
    highlight default link bastideWord Constant
    highlight default link bastideMember Identifier
    highlight default link bastideNumber Number
  ]])
end

--- Shows the answer to a command in a window of its own.
local function show(text)
  vim.lsp.util.open_floating_preview(vim.split(text, "\n"), "", { border = "rounded", focus = true })
end

--- Asks about what stands under the cursor: "reach", "why", "try" or "diff".
function M.ask(what)
  local position = vim.lsp.util.make_position_params().position
  local params = { command = "bastide." .. what, arguments = { vim.uri_from_bufnr(0), position } }
  vim.lsp.buf_request(0, "workspace/executeCommand", params, function(failed, text)
    show(failed and failed.message or text)
  end)
end

function M.start(options)
  local file = vim.api.nvim_buf_get_name(0)
  local folder = root(file)
  if not folder then
    return
  end
  if not M.clients then
    M.clients = {}
  end
  if not M.clients[folder] then
    M.clients[folder] = vim.lsp.start_client({
      name = "bastide",
      cmd = options.cmd or M.program,
      root_dir = folder,
      init_options = { showsAnswers = true, audit = options.audit or false },
      on_exit = function()
        M.clients[folder] = nil
      end,
    })
  end
  vim.lsp.buf_attach_client(0, M.clients[folder])
  vim.bo.omnifunc = "v:lua.vim.lsp.omnifunc"
end

function M.setup(options)
  options = options or {}
  local group = vim.api.nvim_create_augroup("bastide", { clear = true })
  vim.api.nvim_create_autocmd({ "BufRead", "BufNewFile" }, {
    group = group,
    pattern = "*.bastide",
    callback = function()
      vim.bo.filetype = "bastide"
      vim.bo.commentstring = "# %s"
      colours()
    end,
  })
  vim.api.nvim_create_autocmd({ "BufRead", "BufNewFile" }, {
    group = group,
    pattern = { "*.bastide", "bastide.toml", "*.csv" },
    callback = function()
      M.start(options)
    end,
  })
  -- The lines above rules change with every word.
  vim.api.nvim_create_autocmd({ "BufEnter", "TextChanged", "TextChangedI", "CursorHold" }, {
    group = group,
    pattern = "*.bastide",
    callback = function()
      if #vim.lsp.buf_get_clients(0) > 0 then
        vim.lsp.codelens.refresh()
      end
    end,
  })
  vim.api.nvim_create_user_command("Bastide", function(args)
    M.ask(args.args)
  end, {
    nargs = 1,
    complete = function()
      return { "reach", "why", "try", "diff" }
    end,
  })
end

return M
