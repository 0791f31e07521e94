-- Drives Neovim without a screen: `nvim --headless -u tests/editor/neovim.lua`, in the folder of the demo estate.
-- What it saw is written, as JSON, to the file that BASTIDE_SEEN names; the test in Rust looks at it.
package.path = vim.env.BASTIDE_EDITORS .. "/neovim/?.lua;" .. package.path
local seen = {}

local function wait(what, is)
  if not vim.wait(60000, is, 20) then
    local said = vim.tbl_map(function(d) return d.message end, vim.diagnostic.get(0))
    io.stderr:write("it never came: " .. what .. "\n" .. vim.inspect(said) .. "\n")
    vim.cmd("cquit 1")
  end
end

local function messages()
  local list = vim.tbl_map(function(d) return d.message end, vim.diagnostic.get(0))
  table.sort(list)
  return list
end

local function ask(method, params)
  local answers = vim.lsp.buf_request_sync(0, method, params, 60000) or {}
  for _, answer in pairs(answers) do
    return answer.result, answer.err
  end
end

--- Types as somebody does at the end of the file, a letter after the other.
local function type_in(text)
  vim.cmd("normal! G")
  local keys = vim.api.nvim_replace_termcodes("o" .. text .. "<Esc>", true, false, true)
  vim.api.nvim_feedkeys(keys, "xt", false)
end

local function line_above(name)
  local lens = ask("textDocument/codeLens", { textDocument = vim.lsp.util.make_text_document_params() }) or {}
  for _, one in ipairs(lens) do
    local line = vim.api.nvim_buf_get_lines(0, one.range.start.line, one.range.start.line + 1, false)[1]
    if line:find(name, 1, true) then
      return one.command.title
    end
  end
end

local function drive()
  require("bastide").setup({ cmd = { vim.env.BASTIDE, "editor", "--on", "2026-11-24" } })
  vim.cmd("edit policy/staff.bastide")
  wait("the service", function() return #vim.lsp.buf_get_clients(0) > 0 end)
  wait("its greeting", function()
    local _, client = next(vim.lsp.buf_get_clients(0))
    return client and client.initialized
  end)
  seen.first = line_above("volunteers-only-read")

  -- A rule, typed word by word: what is wrong comes and goes.
  seen.typed = {}
  for _, words in ipairs({ "rule lenders-see-loans {", 'because "Loans."', "who members of lendrs", "may read", "what report", "}" }) do
    type_in(words)
    local is_last = words == "}"
    wait("word: " .. words, function()
      local all = messages()
      local misspelt = #all == 1 and all[1]:find("lendrs", 1, true) ~= nil
      return #all > 0 and is_last == misspelt
    end)
    table.insert(seen.typed, messages())
  end
  seen.misspelt = line_above("lenders-see-loans")

  -- The quick fix is taken.
  local fixes = ask("textDocument/codeAction", {
    textDocument = vim.lsp.util.make_text_document_params(),
    range = { start = { line = 0, character = 0 }, ["end"] = { line = vim.api.nvim_buf_line_count(0), character = 0 } },
    context = { diagnostics = {} },
  })
  for _, fix in ipairs(fixes) do
    if fix.kind == "quickfix" then
      seen.fix = fix.title
      vim.lsp.util.apply_workspace_edit(fix.edit, "utf-16")
    end
  end
  wait("nothing is wrong", function() return #messages() == 0 end)
  seen.mended = line_above("lenders-see-loans")

  -- An attribute and a place are completed, by way of the editor's own function.
  local function complete(begun)
    type_in(begun)
    local row = vim.api.nvim_buf_line_count(0)
    vim.api.nvim_win_set_cursor(0, { row, #vim.api.nvim_get_current_line() })
    local params = vim.lsp.util.make_position_params()
    params.position.character = #vim.api.nvim_get_current_line()
    local offers = ask("textDocument/completion", params)
    local labels = vim.tbl_map(function(item) return item.label end, offers.items or offers)
    vim.cmd("normal! dd")
    return labels
  end
  vim.cmd("normal! Gdd")
  seen.attribute = complete("where user.clea")
  seen.place = complete('under "Conservation/La')
  -- The last word is changed, and the line above changes with it.
  vim.cmd([[%s/what report$/what report, essay/]])
  type_in("}")
  wait("nothing is wrong again", function() return #messages() == 0 end)
  seen.wider = line_above("lenders-see-loans")

  -- A group gets another name, in the policy and in the table.
  vim.fn.search("members of volunteers")
  vim.cmd("normal! 2W")
  vim.lsp.buf.rename("helpers")
  wait("the new name", function()
    return vim.fn.search("members of helpers", "nw") > 0
  end)
  wait("nothing is wrong with it", function() return #messages() == 0 end)
  vim.cmd("wall")

  -- Laid out anew, saved, and left.
  local edits = ask("textDocument/formatting", {
    textDocument = vim.lsp.util.make_text_document_params(),
    options = { tabSize = 4, insertSpaces = true },
  })
  if edits and #edits > 0 then
    vim.lsp.util.apply_text_edits(edits, 0, "utf-16")
  end
  vim.cmd("wall")
  -- What there is to say in the end has come.
  vim.wait(3000, function() return false end)
  local file = assert(io.open(vim.env.BASTIDE_SEEN, "w"))
  file:write(vim.json.encode(seen))
  file:close()
  vim.cmd("qall")
end

vim.api.nvim_create_autocmd("VimEnter", {
  callback = function()
    vim.defer_fn(function()
      local fine, why = xpcall(drive, debug.traceback)
      if not fine then
        io.stderr:write(tostring(why) .. "\n")
        vim.cmd("cquit 1")
      end
    end, 10)
  end,
})
