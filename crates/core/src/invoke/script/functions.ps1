$again = [bool]$Again
$failed = 0; $at = 0; $there = 0; $made = 0; $missing = @(); $stopped = $false; $begun = $false; $closed = $false; $kept = @()
$clock = [System.Diagnostics.Stopwatch]::StartNew()
$plain = New-Object System.Text.UTF8Encoding $false
$hostname = [regex]::Replace([System.Environment]::MachineName, '[^A-Za-z0-9._-]', '')
$second = [DateTimeOffset]::UtcNow.ToUnixTimeSeconds()
$start = "script-$hostname-$PID-$second"
$journals = [System.IO.Path]::Combine([System.IO.Path]::GetDirectoryName($logs), 'journal')
$journal = [System.IO.Path]::Combine($journals, "$hostname-$second-$PID.jsonl")

# Seconds since the script began.
function Get-Since { [int][Math]::Floor($clock.Elapsed.TotalSeconds) }

# A text as JSON has it, with its quotes.
function Get-Json([string]$Text) { ConvertTo-Json -InputObject $Text -Compress }

# A path as it is written between the quotes of a literal of a language.
function Get-Part([string]$Language, [string]$Path) {
  switch ($Language) {
    'xml' { return $Path.Replace('&', '&amp;').Replace('<', '&lt;').Replace('>', '&gt;').Replace('"', '&quot;').Replace("'", '&apos;') }
    'shell' { return $Path.Replace("'", "'\''") }
    'none' { return $Path }
  }
  $Path.Replace('\', '\\').Replace('"', '\"')
}

# Says something that went wrong.
function Write-Wrong([string]$Text) { [Console]::Error.WriteLine($Text) }

# Writes a line into the journal, which begins with who writes it.
function Write-Event([string]$Line) {
  if (-not $script:begun) {
    $script:begun = $true
    [void][System.IO.Directory]::CreateDirectory($journals)
    foreach ($file in [System.IO.Directory]::GetFiles($journals, '*.jsonl')) {
      $first = Get-Content -LiteralPath $file -TotalCount 1
      if ("$first" -match '^{"event":"began","truepath":1,"turn":(\d+),' -and [long]$Matches[1] -ge $script:turn) { $script:turn = [long]$Matches[1] + 1 }
    }
    $now = [DateTime]::UtcNow.ToString('yyyy-MM-ddTHH:mm:ssZ', [System.Globalization.CultureInfo]::InvariantCulture)
    $head = '@began@'
    [System.IO.File]::AppendAllText($journal, $head + "`n" + $series + "`n", $plain)
  }
  [System.IO.File]::AppendAllText($journal, $Line + "`n", $plain)
}

# One word of a command line as the runtime of a program takes it apart again: blanks stand between quotes, and backslashes
# count only before a quote.
function Get-Word([string]$Text) {
  if ($Text -ne '' -and $Text -notmatch '[\s"]') { return $Text }
  '"' + (($Text -replace '(\\*)"', '$1$1\"') -replace '(\\+)$', '$1$1') + '"'
}

# Runs a program, its output to the log and to the screen; its exit code.
function Invoke-Program($Call) {
  [void][System.IO.Directory]::CreateDirectory([System.IO.Path]::GetDirectoryName($Call.Log))
  foreach ($file in $Call.Puts) {
    [void][System.IO.Directory]::CreateDirectory([System.IO.Path]::GetDirectoryName($file.Path))
    [System.IO.File]::WriteAllText($file.Path, $file.Text, $plain)
  }
  $about = New-Object System.Diagnostics.ProcessStartInfo
  $about.FileName = $Call.Program
  $about.Arguments = @($Call.Words | ForEach-Object { Get-Word $_ }) -join ' '
  $about.WorkingDirectory = $Call.Folder
  $about.UseShellExecute = $false
  $about.RedirectStandardOutput = $true
  $about.RedirectStandardError = $true
  foreach ($name in $Call.Variables.Keys) { $about.EnvironmentVariables[$name] = $Call.Variables[$name] }
  $log = New-Object System.IO.StreamWriter $Call.Log, $false, $plain
  # Of the log, beginning and end are kept up to its limit.
  $size = 0; $end = New-Object System.Collections.Generic.Queue[string]; $held = 0; $left = $false
  try {
    $process = [System.Diagnostics.Process]::Start($about)
    try {
      $errors = $process.StandardError.ReadToEndAsync()
      while ($null -ne ($line = $process.StandardOutput.ReadLine())) {
        Write-Host $line
        if ($size -lt $loghalf) { $size += $line.Length + 1; $log.WriteLine($line); continue }
        $end.Enqueue($line); $held += $line.Length + 1
        while ($held -gt $loghalf -and $end.Count -gt 1) { $held -= $end.Dequeue().Length + 1; $left = $true }
      }
      $process.WaitForExit()
      $rest = $errors.Result
      if ($rest) { Write-Host $rest; $end.Enqueue($rest.TrimEnd()) }
      return $process.ExitCode
    } finally {
      if ($left) { $log.WriteLine('... lines are left out here ...') }
      foreach ($line in $end) { $log.WriteLine($line) }
      # An interrupt ends the renderer too.
      if (-not $process.HasExited) { $process.Kill() }
    }
  } catch {
    Write-Wrong "cannot start $($Call.Program): $($_.Exception.Message)"
    $log.WriteLine($_.Exception.Message)
    return 4
  } finally { $log.Dispose() }
}

# All files of some staged names; a star stands where the program writes anything.
function Find-Every([string[]]$Names) {
  foreach ($name in $Names) {
    $folder = [System.IO.Path]::GetDirectoryName($name)
    if ([System.IO.Directory]::Exists($folder)) { [System.IO.Directory]::GetFiles($folder, [System.IO.Path]::GetFileName($name)) }
  }
}

# Takes away what a program wrote beside its pictures, and keeps what is to be kept.
function Clear-Besides($Call) {
  foreach ($path in @(Find-Every $Call.Also)) { [System.IO.File]::Delete($path) }
  foreach ($path in @(Find-Every $Call.Keep)) {
    [void][System.IO.Directory]::CreateDirectory($Call.Kept)
    $to = [System.IO.Path]::Combine($Call.Kept, [System.IO.Path]::GetFileName($path))
    if ([System.IO.File]::Exists($to)) { [System.IO.File]::Delete($to) }
    [System.IO.File]::Move($path, $to)
  }
  foreach ($stage in $Call.Stages) {
    if (-not [System.IO.Directory]::Exists($stage)) { continue }
    $written = "$stage/.written"
    if ([System.IO.Directory]::Exists($written)) { [System.IO.Directory]::Delete($written, $true) }
    foreach ($folder in [System.IO.Directory]::GetDirectories($stage)) { try { [System.IO.Directory]::Delete($folder) } catch { } }
  }
}

# The first of some staged names that is there as a file and not empty; a star stands where the program writes anything.
function Find-Staged([string[]]$Names) {
  foreach ($name in $Names) {
    $folder = [System.IO.Path]::GetDirectoryName($name)
    if (-not [System.IO.Directory]::Exists($folder)) { continue }
    foreach ($path in [System.IO.Directory]::GetFiles($folder, [System.IO.Path]::GetFileName($name))) {
      $file = New-Object System.IO.FileInfo $path
      if ($file.Length -gt 0 -and -not ($file.Attributes -band [System.IO.FileAttributes]::ReparsePoint)) { return $path }
    }
  }
}

# Whether a planned file is there: not empty, and not the one of so many bytes that has to be made again.
function Test-There($File) {
  $about = New-Object System.IO.FileInfo $File.Path
  $about.Exists -and $about.Length -gt 0 -and $about.Length -ne $File.Broken
}

# False where the end that a file of this type must have is not there.
function Test-Whole([string]$Path, [string]$Type) {
  $stream = [System.IO.File]::OpenRead($Path)
  try {
    $size = $stream.Length
    $read = { param($from, $count) $bytes = New-Object byte[] $count; [void]$stream.Seek($from, 'Begin'); [void]$stream.Read($bytes, 0, $count); , $bytes }
    switch ($Type) {
      'png' { return $size -gt 12 -and [BitConverter]::ToString((& $read ($size - 12) 12)) -eq '00-00-00-00-49-45-4E-44-AE-42-60-82' }
      'jpeg' { return $size -gt 2 -and [BitConverter]::ToString((& $read ($size - 2) 2)) -eq 'FF-D9' }
      'bmp' { return $size -gt 6 -and [BitConverter]::ToUInt32((& $read 2 4), 0) -le $size }
      'webp' { return $size -gt 8 -and [BitConverter]::ToUInt32((& $read 4 4), 0) -lt $size }
    }
    return $true
  } finally { $stream.Dispose() }
}

# A file that did not come out.
function Add-Lost($Call, $File, [string]$Why) {
  Write-Wrong "missing: $($File.Path): $Why"
  $script:missing += $File.Path
  $Call.Lost += $File.Frame
}

# Gives a file its name, unless its end is missing. What is already there stays, unless all is rendered again.
function Move-Landed($Call, $File, [string]$Staged) {
  if (-not (Test-Whole $Staged $File.Type)) { Add-Lost $Call $File "cut off, left in $Staged"; return }
  $bytes = (New-Object System.IO.FileInfo $Staged).Length
  Write-Event ('@landed@')
  try {
    if ([System.IO.File]::Exists($File.Path) -and ($again -or -not (Test-There $File))) {
      [System.IO.File]::Replace($Staged, $File.Path, $null)
    } else {
      [void][System.IO.Directory]::CreateDirectory([System.IO.Path]::GetDirectoryName($File.Path))
      # This fails where something stands: of two scripts that render the same, one lands.
      [System.IO.File]::Move($Staged, $File.Path)
    }
    $Call.Landed++
  } catch [System.IO.IOException] {
    Write-Event ('@late@')
    if (Test-There $File) { [System.IO.File]::Delete($Staged); $script:there++ } else { $script:failed = 4; Add-Lost $Call $File 'cannot be moved there' }
  }
}

# Lands what came out of a call: all that is finished, or what its log names.
function Complete-Call($Call, [string]$Trust, $Rules) {
  $said = @()
  if ($Rules.Wrote -and [System.IO.File]::Exists($Call.Log)) { $said = @(Get-Content -LiteralPath $Call.Log | Where-Object { $_ -cmatch $Rules.Wrote }) }
  foreach ($file in $Call.Files) {
    $staged = Find-Staged $file.Staged
    if (-not $again -and (Test-There $file)) { if ($staged) { [System.IO.File]::Delete($staged) }; continue }
    if (-not $staged) { Add-Lost $Call $file 'not written as a file'; continue }
    if ($Trust -eq 'all' -or (Test-Named $said $staged)) { Move-Landed $Call $file $staged; continue }
    $script:kept = @($script:kept) + [System.IO.Path]::GetDirectoryName($staged) | Select-Object -Unique
    Add-Lost $Call $file "perhaps not finished, left in $staged"
  }
}

# Whether lines of a log name a file, alone or with its folder.
function Test-Named([string[]]$Said, [string]$Staged) {
  $name = [regex]::Escape([System.IO.Path]::GetFileName($Staged))
  $folder = [regex]::Escape([System.IO.Path]::GetFileName([System.IO.Path]::GetDirectoryName($Staged)))
  $rule = "(^|[^A-Za-z0-9_.-])$folder[/\\]$name|(^|[^/\\A-Za-z0-9_.-])$name"
  @($Said | Where-Object { $_ -cmatch $rule }).Count -gt 0
}

# Whether a log has a line of a kind.
function Test-Log([string]$Path, [string]$Rule) { $Rule -and @(Get-Content -LiteralPath $Path | Where-Object { $_ -cmatch $Rule }).Count -gt 0 }

# Makes a call, if any of its files is missing.
function Invoke-Call($Call) {
  if ($stopped) { return }
  $script:at++
  if (-not $Call.Files) {
    Write-Host "[$at of $total] $($Call.Id)"
    $code = Invoke-Program $Call
    if ($code -ne 0) { Write-Wrong "ended with exit code ${code}: see $($Call.Log)"; Set-Failed 3 }
    return
  }
  $before = $again
  # A movie is as new as its frames.
  if ($Call.Kind -eq 'encode' -and $made -gt 0) { $script:again = $true }
  try {
    $absent = @($Call.Files | Where-Object { $again -or -not (Test-There $_) })
    $script:there += $Call.Files.Count - $absent.Count
    if ($absent.Count -eq 0) { Write-Host "[$at of $total] $($Call.Id): already there"; return }
    Write-Host "[$at of $total] $($Call.Id)"
    foreach ($need in $Call.Needs) { if (-not (Export-Scene $exports[$need])) { Set-Failed 3; return } }
    $rules = $adapters[$Call.Adapter]
    $pause = 1
    do {
      foreach ($stage in $Call.Stages) {
        if ([System.IO.Directory]::Exists($stage)) { [System.IO.Directory]::Delete($stage, $true) }
        [void][System.IO.Directory]::CreateDirectory($stage)
      }
      $Call.Lost = @(); $Call.Landed = 0; $missed = $missing; $since = Get-Since
      $log = 'logs/' + $Call.Id + '.log'
      Write-Event ('@started@')
      $code = $null
      try { $code = Invoke-Program $Call } finally {
        # Somebody has interrupted the script: what the renderer named as written lands, the rest stays in stage.
        if ($null -eq $code) {
          Complete-Call $Call 'named' $rules
          $script:there += $Call.Landed; $script:made += $Call.Landed
          $code = 130; $well = $false; $lost = @($Call.Lost | Sort-Object -Unique) -join ','; $over = Get-Since
          Write-Event ('@ended@')
        }
      }
      $well = $rules.Ok -contains $code
      $trust = 'all'
      if ($rules.Wrote -or -not $well -or ($rules.Finished -and -not (Test-Log $Call.Log $rules.Finished))) { $trust = 'named' }
      if ($rules.Fatal -and (Test-Log $Call.Log $rules.Fatal)) { $trust = 'named' }
      Complete-Call $Call $trust $rules
      Clear-Besides $Call
      foreach ($stage in $Call.Stages) { if ([System.IO.Directory]::GetFileSystemEntries($stage).Length -eq 0) { [System.IO.Directory]::Delete($stage) } }
      $lost = @($Call.Lost | Sort-Object -Unique) -join ','
      $over = Get-Since
      Write-Event ('@ended@')
      $waits = $Call.Landed -eq 0 -and $rules.Wait -and (Test-Log $Call.Log $rules.Wait)
      if ($waits) {
        Write-Wrong "no licence is free; again in $pause s"
        Start-Sleep -Seconds $pause
        $pause = [Math]::Min(60, $pause * 2)
        $script:missing = $missed
      }
    } while ($waits)
    $script:there += $Call.Landed
    $script:made += $Call.Landed
    if ($lost) {
      Write-Event ('@failed@')
      Write-Wrong "failed with exit code $code, $($Call.Lost.Count) missing: see $($Call.Log)"
      Set-Failed 3
    } elseif (-not $well) { Write-Wrong "note: all files are there, and the exit code was ${code}: see $($Call.Log)" }
  } finally { $script:again = $before }
}

# Exports a scene, once; whether it is there.
function Export-Scene($Export) {
  if ($Export.Done) { return $Export.Made }
  $Export.Done = $true
  $part = [System.IO.Path]::GetDirectoryName($Export.Staged)
  if ([System.IO.Directory]::Exists($part)) { [System.IO.Directory]::Delete($part, $true) }
  [void][System.IO.Directory]::CreateDirectory($part)
  $code = Invoke-Program $Export
  if ($code -eq 0 -and (Find-Staged @($Export.Staged))) {
    [System.IO.Directory]::Move($part, [System.IO.Path]::GetDirectoryName($Export.Path))
    $Export.Made = $true
  } else { Write-Wrong "the export $($Export.Id) ended with $code and made nothing: see $($Export.Log)" }
  return $Export.Made
}

# Something did not come out; the script goes on or ends.
function Set-Failed([int]$Code) {
  $script:failed = $Code
  if (-not $goon) { $script:stopped = $true }
}
