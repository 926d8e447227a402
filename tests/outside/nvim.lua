-- A person in an editor, played: a wrong formula, its diagnostic, a proposal, a repair, a rename, a save. What was seen goes to seen.json.
local seen = {}
local function wait(what, condition)
  if not vim.wait(20000, condition, 50) then
    error('no ' .. what)
  end
end

local function play()
  vim.cmd('edit loads.oak.toml')
  local client = vim.lsp.start_client({ name = 'oak', cmd = { vim.env.OAK, 'language-server' }, root_dir = vim.fn.getcwd() })
  vim.lsp.buf_attach_client(0, client)
  wait('the server', function() return vim.lsp.get_client_by_id(client) ~= nil and vim.lsp.get_client_by_id(client).initialized end)

  local line = vim.fn.search('^formula = ')
  vim.api.nvim_buf_set_lines(0, line - 1, line, false, { "formula = 'Volum * 2'" })
  wait('the diagnostic', function() return #vim.diagnostic.get(0) == 1 end)
  seen.diagnostic = vim.diagnostic.get(0)[1].message

  vim.api.nvim_win_set_cursor(0, { line, 14 })
  local offered = vim.lsp.buf_request_sync(0, 'textDocument/completion', vim.lsp.util.make_position_params(), 20000)
  seen.offered = offered[client].result.items[1].label

  local range = vim.lsp.util.make_range_params()
  range.context = { diagnostics = {} }
  local actions = vim.lsp.buf_request_sync(0, 'textDocument/codeAction', range, 20000)[client].result
  seen.action = actions[1].title
  vim.lsp.util.apply_workspace_edit(actions[1].edit, 'utf-16')
  wait('the repair', function() return #vim.diagnostic.get(0) == 0 end)

  vim.fn.search('name = "Volume"')
  vim.cmd('normal! f"l')
  vim.lsp.buf.rename('Net volume')
  wait('the new name', function() return vim.fn.search('"Net volume" \\* 2', 'nw') > 0 end)
  vim.cmd('silent wall')
end

local good, reason = pcall(play)
seen.failed = not good and tostring(reason) or nil
vim.fn.writefile({ vim.json.encode(seen) }, 'seen.json')
vim.cmd(good and 'quitall!' or 'cquit 1')
