-- What the picture of an editor is made with: Debian's Neovim, which has no vim.lsp.start yet.
vim.o.termguicolors, vim.o.background, vim.o.number = true, "light", true
vim.o.swapfile, vim.o.signcolumn = false, "yes"
vim.cmd("highlight Normal guibg=#fdfdf8 guifg=#1f261d")
vim.cmd("highlight DiagnosticVirtualTextError guifg=#b00020")
vim.cmd("highlight DiagnosticVirtualTextWarn guifg=#9a6700")
vim.cmd("highlight SignColumn guibg=#fdfdf8")
vim.cmd("highlight LineNr guifg=#a0a49a")
vim.cmd("highlight NormalFloat guibg=#eef1e6 guifg=#1f261d")
local client = vim.lsp.start_client({ name = "bloodroot", cmd = { "bloodroot", "lsp" }, root_dir = vim.fn.getcwd() })
vim.api.nvim_create_autocmd("BufRead", {
  pattern = "*.bloodroot",
  callback = function() vim.lsp.buf_attach_client(0, client) end,
})
-- The mistake is made once all has been looked at.
vim.defer_fn(function()
  vim.cmd([[%s/  trial:start         botanist/  trial:start         botanits/]])
  vim.fn.winrestview({ topline = 19, lnum = vim.fn.search("POST      /trials/{", "n"), col = 2 })
  vim.lsp.buf.hover()
end, 5000)
vim.defer_fn(function() vim.fn.writefile({}, os.getenv("WORK") .. "/done") end, 9000)
