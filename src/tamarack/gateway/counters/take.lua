-- Counts one call against every window, or against none: the algorithms of core/limits/algorithms.py.
-- KEYS: one for each window. ARGV: the time in microseconds, the number of the question, what to do (0 take, 1 count in
-- any case, 2 only look), then for each window its algorithm (0 fixed, 1 sliding, 2 bucket, 3 a quota's stretch), limit,
-- seconds (of a stretch its end), burst (of a stretch its start), 1 where it is soft, and what the call counts in it;
-- one that counts 0 is taken while one is left.
-- Answers: 1 or 0 (admitted), the place of the window that decides (from 1), what is left, microseconds, the number
-- of the question, so that an answer is never taken for another call's, and the place of a soft one that is over.
-- All numbers are whole and below 2^53, so that doubles hold them exactly.
local now = tonumber(ARGV[1])
local question = tonumber(ARGV[2])
local act = tonumber(ARGV[3])
local MICRO = 1000000
local SLICES = 32

local function floor_of(a, b) return (a - a % b) / b end
local function ceil_of(a, b) return floor_of(a + b - 1, b) end
local function text(n) return string.format('%.0f', n) end

local writes = {}
local least, place, reset, over_at = nil, 0, 0, 0

for i = 1, #KEYS do
  local base = 4 + (i - 1) * 6
  local algorithm, limit = tonumber(ARGV[base]), tonumber(ARGV[base + 1])
  local seconds, burst = tonumber(ARGV[base + 2]), tonumber(ARGV[base + 3])
  local cost = tonumber(ARGV[base + 5])
  local asked = cost
  if act == 0 and cost == 0 then asked = 1 end
  local key = KEYS[i]
  local left, wait
  if algorithm == 0 then
    local whole = floor_of(now, MICRO)
    local started = whole - whole % seconds
    local kept = redis.call('HMGET', key, 's', 'n')
    local before, count = tonumber(kept[1] or '-1'), tonumber(kept[2] or '0')
    if started > before then count = 0 else started = before end
    left = limit - count - asked
    wait = (started + seconds) * MICRO - now
    writes[i] = function()
      redis.call('HSET', key, 's', text(started), 'n', text(count + cost))
      redis.call('PEXPIRE', key, ceil_of(wait, 1000) + 60000)
    end
  elseif algorithm == 3 then
    local ends, starts = seconds, burst
    local kept = redis.call('HMGET', key, 's', 'n')
    local before, count = tonumber(kept[1] or '0'), tonumber(kept[2] or '0')
    if before < starts then before, count = starts, 0 end
    left = limit - count - asked
    wait = ends * MICRO - now
    writes[i] = function()
      redis.call('HSET', key, 's', text(before), 'n', text(count + cost))
      redis.call('PEXPIRE', key, math.max(0, ceil_of(wait, 1000)) + 86400000)
    end
  elseif algorithm == 1 then
    local width = floor_of(seconds * MICRO, SLICES)
    local current = floor_of(now, width)
    local kept = redis.call('HGETALL', key)
    local parts, sum = {}, 0
    for n = 1, #kept, 2 do
      local part = tonumber(kept[n])
      if part > current then current = part end
      parts[#parts + 1] = { part, tonumber(kept[n + 1]) }
    end
    table.sort(parts, function(a, b) return a[1] < b[1] end)
    local gone, live = {}, {}
    for _, one in ipairs(parts) do
      if one[1] < current - SLICES then gone[#gone + 1] = text(one[1]) else
        live[#live + 1] = one
        sum = sum + one[2]
      end
    end
    left = limit - sum - asked
    if left >= 0 then wait = (current + SLICES + 1) * width - now else
      local freed, last = 0, current
      for _, one in ipairs(live) do
        freed = freed + one[2]
        last = one[1]
        if freed >= -left then break end
      end
      wait = (last + SLICES + 1) * width - now
    end
    writes[i] = function()
      if #gone > 0 then redis.call('HDEL', key, unpack(gone)) end
      redis.call('HINCRBY', key, text(current), cost)
      redis.call('PEXPIRE', key, (seconds + 60) * 1000)
    end
  else
    local each = seconds * MICRO
    local kept = redis.call('HMGET', key, 't', 'd')
    local at, debt = now, 0
    if kept[1] then
      local last = tonumber(kept[1])
      at = math.max(last, now)
      debt = math.max(0, tonumber(kept[2]) - (at - last) * limit)
    end
    local after = debt + asked * each
    local over = after - burst * each
    if over > 0 then
      left, wait = -ceil_of(over, each), ceil_of(over, limit)
    else
      left, wait = floor_of(-over, each), ceil_of(after, limit)
    end
    writes[i] = function()
      redis.call('HSET', key, 't', text(at), 'd', text(debt + cost * each))
      redis.call('PEXPIRE', key, (ceil_of(burst * seconds, limit) + 60) * 1000)
    end
  end
  if left < 0 and act == 0 then
    if tonumber(ARGV[base + 4]) == 0 then return { 0, i, 0, wait, question, 0 } end
    over_at, left = i, 0
  elseif asked ~= cost then
    left = left + 1
  end
  if cost == 0 then writes[i] = function() end end
  if least == nil or left < least then least, place, reset = left, i, wait end
end

if act ~= 2 then for i = 1, #KEYS do writes[i]() end end
return { 1, place, least, reset, question, over_at }
