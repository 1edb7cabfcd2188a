-- Counts one call against every window, or against none: the algorithms of core/limits/algorithms.py.
-- KEYS: one for each window. ARGV: the time in microseconds, the number of the question, what to do (0 take, 1 count in
-- any case, 2 only look), when the call came, then for each window its algorithm (0 fixed, 1 sliding, 2 bucket, 3 a quota's stretch), limit,
-- seconds (of a stretch its end), burst (of a stretch its start), 1 where it is soft, what the call counts in it, and 1
-- where that are tokens. One that counts 0 is taken while one is left. Counting in any case, a number below 0 takes back
-- of what was counted when the call came, where that still counts, and never more than there is.
-- Answers: 1 or 0 (admitted), the place of the window that decides (from 1), what is left, microseconds, the number
-- of the question, so that an answer is never taken for another call's, the place of a soft one that is over; then the
-- place of the window of tokens that is tightest, what is left of it and microseconds, where calls are counted too.
-- All numbers are whole and below 2^53, so that doubles hold them exactly.
local now = tonumber(ARGV[1])
local question = tonumber(ARGV[2])
local act = tonumber(ARGV[3])
local came = tonumber(ARGV[4])
local MICRO = 1000000
local SLICES = 32

local function floor_of(a, b) return (a - a % b) / b end
local function ceil_of(a, b) return floor_of(a + b - 1, b) end
local function text(n) return string.format('%.0f', n) end

local writes = {}
local over_at = 0
local calls, tokens = { nil, 0, 0 }, { nil, 0, 0 }  -- what is left of the tightest, its place, and microseconds

for i = 1, #KEYS do
  local base = 5 + (i - 1) * 7
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
      if cost < 0 then
        if kept[1] and came >= before * MICRO then redis.call('HSET', key, 'n', text(math.max(0, tonumber(kept[2]) + cost))) end
        return
      end
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
      if cost < 0 and before ~= starts then return end
      redis.call('HSET', key, 's', text(before), 'n', text(math.max(0, count + cost)))
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
      if cost < 0 then
        for _, one in ipairs(live) do
          if one[1] == floor_of(came, width) then
            redis.call('HSET', key, text(one[1]), text(math.max(0, one[2] + cost)))
          end
        end
        return
      end
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
      if cost < 0 then
        if not kept[1] then return end
        at, debt = tonumber(kept[1]), math.max(0, tonumber(kept[2]) + cost * each)
      else
        debt = debt + cost * each
      end
      redis.call('HSET', key, 't', text(at), 'd', text(debt))
      redis.call('PEXPIRE', key, (ceil_of(burst * seconds, limit) + 60) * 1000)
    end
  end
  if left < 0 and act == 0 then
    if tonumber(ARGV[base + 4]) == 0 then return { 0, i, 0, wait, question, 0, 0, 0, 0 } end
    over_at, left = i, 0
  elseif asked ~= cost then
    left = left + 1
  end
  if cost == 0 then writes[i] = function() end end
  local tightest = tonumber(ARGV[base + 6]) == 1 and tokens or calls
  if tightest[1] == nil or left < tightest[1] then tightest[1], tightest[2], tightest[3] = left, i, wait end
end

if act ~= 2 then for i = 1, #KEYS do writes[i]() end end
if calls[1] == nil then return { 1, tokens[2], tokens[1], tokens[3], question, over_at, 0, 0, 0 } end
return { 1, calls[2], calls[1], calls[3], question, over_at, tokens[2], tokens[1] or 0, tokens[3] }
