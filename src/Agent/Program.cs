System.Console.WriteLine(1);
