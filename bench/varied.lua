-- For wrk: a field that is another with each call, so that nobody can take it for the one before.
local count = 0

request = function()
  count = count + 1
  wrk.headers["x-request"] = tostring(count)
  return wrk.format()
end
