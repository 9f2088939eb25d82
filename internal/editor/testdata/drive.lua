-- Uses the server in Neovim as the setup text starts it: a mistake, a completion, a hover, a rename over two files.
local function must(ok, what)
  if not ok then
    print("FAILED: " .. what)
    vim.cmd("cquit")
  end
end
local function ask(method, line, character, more)
  local params = vim.tbl_extend("force", { textDocument = { uri = vim.uri_from_bufnr(0) }, position = { line = line, character = character } }, more or {})
  local answers = vim.lsp.buf_request_sync(0, method, params, 5000)
  must(answers and next(answers), method .. " has no answer")
  local _, answer = next(answers)
  must(answer.error == nil, method .. ": " .. vim.inspect(answer.error))
  return answer.result
end
must(vim.bo.filetype == "erbario", "the file type is " .. vim.bo.filetype)
must(vim.wait(10000, function() return #vim.diagnostic.get(0) > 0 end), "no diagnostic")
must(vim.diagnostic.get(0)[1].message:find("did you mean text?", 1, true), "the diagnostic is another")
vim.api.nvim_buf_set_lines(0, 1, 2, false, { "    label text(40) unique" })
must(vim.wait(10000, function() return #vim.diagnostic.get(0) == 0 end), "the diagnostic stays")
vim.api.nvim_buf_set_lines(0, 2, 2, false, { "    other references " })
local list = ask("textDocument/completion", 2, 21)
must(vim.tbl_contains(vim.tbl_map(function(i) return i.label end, list.items), "Box"), "Box is not completed")
vim.api.nvim_buf_set_lines(0, 2, 3, false, { "    other references Box optional" })
must(vim.wait(10000, function() return #vim.diagnostic.get(0) == 0 end), "wrong after all")
vim.wait(300)
must(ask("textDocument/hover", 1, 5).contents.value:find("sheets.label", 1, true), "the hover is another")
local edit = ask("textDocument/rename", 1, 5, { newName = "title" })
vim.lsp.util.apply_workspace_edit(edit, "utf-16")
must(vim.api.nvim_buf_get_lines(0, 1, 2, false)[1] == "    title text(40) unique", "not renamed here")
vim.cmd("wall")
vim.cmd("qall!")
